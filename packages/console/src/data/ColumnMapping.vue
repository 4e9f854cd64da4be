<script setup lang="ts">
import { Input } from 'ant-design-vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { formatCell } from '../table/fields';
import { COLUMN_TYPES, type ColumnTarget } from './column-mapping';
import type { Row } from './import-rows';

/** Which field each column of a file becomes. */
const props = defineProps<{
  mapping: readonly ColumnTarget[];
  rows: readonly Row[];
  /** The fields of the collection. */
  known: readonly string[];
  disabled: boolean;
}>();
const emit = defineEmits<{ change: [mapping: ColumnTarget[]] }>();
const EXAMPLES = 3;

function change(index: number, part: Partial<ColumnTarget>): void {
  emit(
    'change',
    props.mapping.map((target, at) => (at === index ? { ...target, ...part } : target)),
  );
}
function examplesOf(column: string): string {
  const texts = props.rows.flatMap(({ cells, data }) => {
    const text = cells?.get(column) ?? formatCell(data[column]);
    return text === '' ? [] : [text];
  });
  return [...new Set(texts)].slice(0, EXAMPLES).join(' · ');
}
const types = COLUMN_TYPES.map((value) => ({ value, label: value }));
</script>

<template>
  <div class="mapping" tabindex="0" role="region" aria-label="Columns and fields">
    <table class="plain pinned">
      <thead>
        <tr>
          <th scope="col">column</th>
          <th scope="col">examples</th>
          <th scope="col">becomes the field</th>
          <th scope="col">read as</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(target, index) in mapping" :key="target.column" :class="{ out: target.field === '' }">
          <th scope="row" class="mono">{{ target.column }}</th>
          <td class="mono examples">{{ examplesOf(target.column) }}</td>
          <td>
            <Input
              class="mono"
              size="small"
              list="known-fields"
              :value="target.field"
              :disabled="disabled"
              :aria-label="`Field of ${target.column}`"
              placeholder="left out"
              spellcheck="false"
              autocomplete="off"
              @change="(event) => change(index, { field: String(event.target.value ?? '').trim() })"
            />
          </td>
          <td>
            <ChoiceBox
              small
              :value="target.type"
              :disabled="disabled"
              :aria-label="`Type of ${target.column}`"
              :options="types"
              @change="(type) => change(index, { type })"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <datalist id="known-fields"><option v-for="name in known" :key="name" :value="name" /></datalist>
  </div>
</template>

<style scoped>
.mapping {
  flex: none;
  max-height: 300px;
  overflow: auto;
  border: 1px solid var(--line);
  border-radius: 5px;
}
th,
.examples {
  max-width: 170px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.out :is(th, .examples) {
  color: var(--ink-3);
  text-decoration: line-through;
}
</style>
