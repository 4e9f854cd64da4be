<script setup lang="ts">
import { formatBytes, formatDuration } from '@uproar/core';
import type { ClusterState } from '@uproar/protocol';
import { Alert, Tag } from 'ant-design-vue';
import { useStore } from '../shared/injection';
import { usePolled } from '../shared/use-polled';

const store = useStore();
const { value: cluster, failure } = usePolled(1000, () => store.fetch<ClusterState>('/v1/cluster'));

/** A larger difference of the clocks is shown, in milliseconds. */
const CLOCK_MS = 2000;
/** A node that has not reported for this time may be lost, in milliseconds. */
const SILENT_MS = 3000;

const ALARMS = { 'no-space': 'is out of space', corrupt: 'has damaged data' };

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
        :message="`The log service has not answered for ${since(cluster.staleSince)}. Reads continue, writes wait.`"
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
                <Tag v-else-if="node.silentMs > SILENT_MS" color="warning">silent</Tag>
                <Tag v-else color="success">running</Tag>
                <Tag v-if="node.node === cluster.node">this page</Tag>
                <Tag v-for="work in workOf(node.node)" :key="work">does the {{ work }}</Tag>
                <Tag v-if="Math.abs(node.clockDifferenceMs) > CLOCK_MS" color="warning">
                  its clock is off by {{ formatDuration(Math.abs(node.clockDifferenceMs)) }}
                </Tag>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </section>
  <section v-if="cluster" class="nodes" aria-labelledby="members">
    <h2 id="members">Members of etcd</h2>
    <div class="scroll" tabindex="0" role="region" aria-labelledby="members">
      <table class="plain">
        <thead>
          <tr>
            <th scope="col">Address</th>
            <th scope="col">Version</th>
            <th scope="col" class="numeric">Size</th>
            <th scope="col">State</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="member in cluster.etcd" :key="member.address">
            <td class="mono">{{ member.address }}</td>
            <td>{{ member.version ?? '–' }}</td>
            <td class="numeric">{{ member.sizeBytes === undefined ? '–' : formatBytes(member.sizeBytes) }}</td>
            <td>
              <Tag v-if="!member.answers" color="error">does not answer</Tag>
              <Tag v-else-if="!member.hasLeader" color="error">knows no leader</Tag>
              <Tag v-else color="success">{{ member.leads ? 'leads' : 'follows' }}</Tag>
              <Tag v-for="alarm in member.alarms" :key="alarm" color="error">{{ ALARMS[alarm] }}</Tag>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
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
