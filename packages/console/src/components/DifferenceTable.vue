<script setup lang="ts">
import { fieldChanges } from '@uproar/core';
import type { Document, JsonValue } from '@uproar/client';
import { computed } from 'vue';

const props = defineProps<{
  before: Pick<Document, 'data'> | null;
  after: Pick<Document, 'data'> | null;
  whole: boolean;
  /** The heads of the two columns; `before` and `after` if left out. */
  heads?: readonly [string, string];
  /** What stands there if nothing differs. */
  none?: string;
}>();

/** Each field before and after; unchanged fields only if all are requested. */
const rows = computed(() => {
  const [before, after] = [props.before?.data ?? {}, props.after?.data ?? {}];
  const altered = fieldChanges(before, after).map((change) => ({ ...change, altered: true }));
  if (!props.whole) return altered;
  const touched = new Set(altered.map(({ pointer }) => pointer.split('/')[1]));
  const rest = fieldChanges(
    {},
    Object.fromEntries(
      Object.entries(after).filter(([name]) => !touched.has(name.replaceAll('~', '~0').replaceAll('/', '~1'))),
    ),
  );
  return [...altered, ...rest.map((same) => ({ ...same, before: same.after, altered: false }))];
});
const show = (value: JsonValue | undefined) => (value === undefined ? '' : JSON.stringify(value));
</script>

<template>
  <table>
    <thead>
      <tr>
        <th scope="col">field</th>
        <th scope="col">{{ heads?.[0] ?? 'before' }}</th>
        <th scope="col">{{ heads?.[1] ?? 'after' }}</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="row in rows" :key="row.pointer" :class="{ same: !row.altered }">
        <th scope="row" :title="row.pointer">{{ row.name || '(no name)' }}</th>
        <td :class="{ was: row.altered && row.before !== undefined }">{{ show(row.before) }}</td>
        <td :class="{ is: row.altered && row.after !== undefined }">{{ show(row.after) }}</td>
      </tr>
      <tr v-if="rows.length === 0">
        <td colspan="3" class="muted">{{ none ?? 'written without changes' }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table {
  width: 100%;
  table-layout: fixed;
  border-collapse: collapse;
  font-family: var(--mono);
  font-size: 12px;
}
th,
td {
  padding: 4px 8px;
  border-bottom: 1px solid var(--line);
  text-align: left;
  vertical-align: top;
  overflow-wrap: anywhere;
}
th:first-child {
  width: 26%;
}
@media (max-width: 720px) {
  th:first-child {
    width: 36%;
  }
}
thead th {
  color: var(--ink-3);
  font-weight: 400;
}
.was {
  background: var(--bad-soft);
}
.is {
  background: var(--live-soft);
}
.same {
  color: var(--ink-3);
}
</style>
