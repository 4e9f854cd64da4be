<script setup lang="ts">
import { formatDuration } from '@uproar/core';
import type { ClusterState } from '@uproar/protocol';
import { CLOCK_DIFFERENCE_MS, SILENT_AFTER_MS } from '@uproar/protocol/timing';
import { Alert, Tag } from 'ant-design-vue';
import { useStore } from '../shared/injection';
import { usePolled } from '../shared/use-polled';
import EtcdMembers from './EtcdMembers.vue';

const store = useStore();
const { value: cluster, failure } = usePolled(1000, () => store.fetch<ClusterState>('/v1/cluster'));

const WORK = { maintenance: 'does the maintenance', hooks: 'delivers to hooks' };
const workOf = (node: string) =>
  (cluster.value?.leases ?? []).filter((lease) => lease.node === node).map(({ work }) => work);
const since = (time: string) => formatDuration(Date.now() - Date.parse(time));
</script>

<template>
  <section class="nodes" aria-labelledby="nodes">
    <h2 id="nodes">Nodes</h2>
    <Alert v-if="failure" type="error" :message="failure" />
    <template v-if="cluster">
      <Alert
        v-if="cluster.halted"
        class="alert"
        type="error"
        show-icon
        :message="`This node has stopped. ${cluster.halted}`"
      />
      <Alert
        v-else-if="cluster.staleSince"
        class="alert"
        type="warning"
        show-icon
        :message="`etcd has not answered for ${since(cluster.staleSince)}. Reads continue, writes wait.`"
      />
      <div class="scroll" tabindex="0" role="region" aria-labelledby="nodes">
        <table class="plain">
          <thead>
            <tr>
              <th scope="col">Address</th>
              <th scope="col">Node</th>
              <th scope="col">Version</th>
              <th scope="col" class="numeric">Seq</th>
              <th scope="col" class="numeric">Entries behind</th>
              <th scope="col" class="numeric">Last report</th>
              <th scope="col">State</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="node in cluster.nodes" :key="node.node">
              <td class="mono">{{ node.address }}</td>
              <td class="mono">{{ node.node }}</td>
              <td>{{ node.version }}</td>
              <td class="numeric">{{ node.seq.toLocaleString() }}</td>
              <td class="numeric">{{ node.lag.toLocaleString() }}</td>
              <td class="numeric">{{ (node.silentMs / 1000).toFixed(1) }} s ago</td>
              <td>
                <Tag v-if="node.differs" color="error">its data differs</Tag>
                <Tag v-else-if="node.storage" color="error" :title="node.storage">cannot write to its disk</Tag>
                <Tag v-else-if="cluster.staleSince" title="Reports of nodes come through etcd">unknown</Tag>
                <Tag v-else-if="node.silentMs > SILENT_AFTER_MS" color="warning">silent</Tag>
                <Tag v-else color="success">running</Tag>
                <Tag v-if="node.node === cluster.node">this page</Tag>
                <Tag v-for="work in workOf(node.node)" :key="work">{{ WORK[work] }}</Tag>
                <Tag v-if="Math.abs(node.clockDifferenceMs) > CLOCK_DIFFERENCE_MS" color="warning">
                  its clock is off by {{ formatDuration(Math.abs(node.clockDifferenceMs)) }}
                </Tag>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </section>
  <EtcdMembers v-if="cluster" :members="cluster.etcd" />
</template>

<style scoped>
.nodes {
  margin-bottom: 14px;
}
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
.alert {
  margin-bottom: 8px;
}
.scroll {
  overflow-x: auto;
}
.plain :is(th, td):first-child {
  padding-left: 0;
}
</style>
