<script setup lang="ts">
import type { View } from '@uproar/client';
import { groupDigits } from '@uproar/core';
import { nextTick, useTemplateRef, watch } from 'vue';
import { flash } from '../shared/flash';
import VisibleCount from './VisibleCount.vue';

const props = defineProps<{ view: View | undefined; open: string }>();
const list = useTemplateRef<HTMLElement>('list');

watch(
  () => props.view,
  async (view, before) => {
    if (before?.state !== 'live') return;
    await nextTick();
    for (const { id } of view?.changes ?? []) {
      flash(list.value?.querySelector(`[data-activity="${id}"]`), 'activity');
    }
  },
);
</script>

<template>
  <div ref="list" class="list">
    <h2>Collections</h2>
    <p v-if="!view || view.state === 'loading'" class="muted note">Loading…</p>
    <p v-else-if="view.documents.length === 0" class="muted note">No collections yet. The first write creates one.</p>
    <RouterLink
      v-for="{ id, data } in view?.documents"
      :key="id"
      :to="{ name: 'data', params: { collection: id } }"
      class="item"
      :class="{ open: id === open }"
      :aria-current="id === open ? 'page' : undefined"
    >
      <span class="name">{{ id }}</span>
      <span class="activity" :data-activity="id" aria-hidden="true" />
      <span v-if="data.documents !== undefined" class="count" :aria-label="`${data.documents} documents`">{{
        groupDigits(Number(data.documents))
      }}</span>
      <VisibleCount v-else class="count" :collection="id" />
    </RouterLink>
  </div>
</template>

<style scoped>
.list {
  flex: 1;
  overflow-y: auto;
  padding: 4px 8px;
}
h2 {
  margin: 4px 8px 6px;
  font-size: 11.5px;
  font-weight: 600;
  color: var(--ink-3);
}
.note {
  margin: 0 8px;
}
.item {
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 4px 8px;
  border-radius: 5px;
  color: var(--ink);
  text-decoration: none;
}
.item:hover {
  background: var(--paper-3);
}
.item.open {
  background: var(--accent-soft);
  font-weight: 600;
}
.name {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.activity {
  width: 6px;
  height: 6px;
  border-radius: 50%;
  background: var(--live);
  opacity: 0;
}
.count {
  font-variant-numeric: tabular-nums;
  color: var(--ink-2);
  font-weight: 400;
}
</style>
