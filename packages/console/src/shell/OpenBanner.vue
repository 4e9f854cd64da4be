<script setup lang="ts">
import type { Store } from '@uproar/client';
import { useConnection } from '@uproar/vue';
import { computed, onBeforeUnmount, ref } from 'vue';

const props = defineProps<{ store: Store }>();
const connection = useConnection(props.store);
const now = ref(Date.now());
const timer = setInterval(() => (now.value = Date.now()), 1000);
onBeforeUnmount(() => clearInterval(timer));

const leftMs = computed(() => {
  const state = connection.value;
  const until = state.name === 'online' ? state.server.openUntil : undefined;
  return until === undefined ? 0 : Date.parse(until) - now.value;
});
const left = computed(() => {
  const seconds = Math.ceil(leftMs.value / 1000);
  const [hours, minutes] = [Math.floor(seconds / 3600), Math.floor(seconds / 60) % 60];
  const two = (number: number) => String(number).padStart(2, '0');
  return hours > 0 ? `${hours}:${two(minutes)}:${two(seconds % 60)}` : `${minutes}:${two(seconds % 60)}`;
});
</script>

<template>
  <p v-if="leftMs > 0" class="banner" role="status">
    <b>The store is open</b>
    Anybody may read and write all documents for <b class="time">{{ left }}</b> more.
  </p>
</template>

<style scoped>
.banner {
  margin: 0 8px 8px;
  padding: 8px;
  border-radius: 5px;
  background: var(--warn-soft);
  color: var(--warn);
  font-size: 12px;
}
.banner > b:first-child {
  display: block;
}
.time {
  font-variant-numeric: tabular-nums;
}
</style>
