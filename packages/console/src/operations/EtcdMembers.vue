<script setup lang="ts">
import { formatBytes } from '@uproar/core';
import type { EtcdMember } from '@uproar/protocol';
import { Tag } from 'ant-design-vue';

defineProps<{ members: readonly EtcdMember[] }>();

const ALARMS = { 'no-space': 'is out of space', corrupt: 'has damaged data' };
</script>

<template>
  <section class="nodes" aria-labelledby="members">
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
          <tr v-for="member in members" :key="member.address">
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
.scroll {
  overflow-x: auto;
}
.plain :is(th, td):first-child {
  padding-left: 0;
}
</style>
