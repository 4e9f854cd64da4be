<script setup lang="ts">
import type { ConnectionState, Store } from '@uproar/client';
import { useConnection } from '@uproar/vue';
import { computed } from 'vue';

const props = defineProps<{ store: Store }>();
const state = useConnection(props.store);

const WORDS: Record<ConnectionState['name'], string> = {
  connecting: 'Connecting…',
  online: 'Connected',
  offline: 'Not connected',
  refused: 'Refused',
  closed: 'Closed',
};
const staleSince = computed(() => (state.value.name === 'online' ? state.value.server.staleSince : undefined));
const word = computed(() => (staleSince.value === undefined ? WORDS[state.value.name] : 'Not up to date'));
const detail = computed(() => {
  const current = state.value;
  if (staleSince.value !== undefined) {
    return `no etcd since ${new Date(staleSince.value).toLocaleTimeString()}`;
  }
  if (current.name === 'offline') return `${current.reason} Trying again.`;
  if (current.name === 'refused') return current.problem.detail;
  return location.host;
});
</script>

<template>
  <div class="badge" :class="[state.name, { stale: staleSince !== undefined }]" role="status" :title="detail">
    <span class="dot" aria-hidden="true" />
    <span>
      <b>{{ word }}</b>
      <small class="muted">{{ detail }}</small>
    </span>
  </div>
</template>

<style scoped>
.badge {
  display: flex;
  gap: 8px;
  align-items: baseline;
  min-width: 0;
}
.badge > span:last-child {
  min-width: 0;
}
b {
  font-weight: 600;
  display: block;
}
small {
  display: block;
  font-size: 11.5px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.dot {
  flex: none;
  width: 8px;
  height: 8px;
  border-radius: 50%;
  background: var(--ink-3);
}
.online .dot {
  background: var(--live);
}
.connecting .dot,
.offline .dot,
.stale .dot {
  background: var(--warn);
}
.refused .dot {
  background: var(--bad);
}
.offline b,
.stale b {
  color: var(--warn);
}
.refused b {
  color: var(--bad);
}
</style>
