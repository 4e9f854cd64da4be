<script setup lang="ts">
import { describeForm, splitAddress, type QueryForm } from '@uproar/core';
import type { Watched } from '@uproar/protocol';
import { computed } from 'vue';
import type { RouteLocationRaw } from 'vue-router';

const props = defineProps<{ watched: Watched }>();

/** The target of a watch in words, with a link to the same data in the console. */
const shown = computed((): { text: string; detail: string; to: RouteLocationRaw } => {
  const { query, doc, journal } = props.watched;
  if (query) {
    const { from, limit: _, ...rest } = query;
    const parts = Object.entries(rest).map(([name, value]) => [
      name,
      typeof value === 'string' ? value : JSON.stringify(value),
    ]);
    const asked = Object.fromEntries(parts) as Record<string, string>;
    return { text: from, detail: describeForm(query as QueryForm), to: { name: 'query', query: { from, ...asked } } };
  }
  if (doc !== undefined) {
    const { collection, id } = splitAddress(doc);
    return { text: doc, detail: '', to: { name: 'data', params: { collection, id } } };
  }
  if (journal) {
    const part = Object.fromEntries(Object.entries(journal).filter(([, value]) => value)) as Record<string, string>;
    return { text: 'the journal', detail: Object.values(part).join(' '), to: { name: 'journal', query: part } };
  }
  return { text: 'the list of collections', detail: '', to: { name: 'data' } };
});
</script>

<template>
  <span class="watched"
    ><RouterLink :to="shown.to">{{ shown.text }}</RouterLink>
    <span v-if="shown.detail" class="mono detail" :title="shown.detail">{{ shown.detail }}</span></span
  >
</template>

<style scoped>
.watched {
  display: inline-flex;
  gap: 8px;
  align-items: baseline;
  min-width: 0;
  max-width: 100%;
}
a {
  color: var(--accent);
  white-space: nowrap;
}
.detail {
  overflow: hidden;
  color: var(--ink-2);
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
