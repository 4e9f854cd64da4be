<script setup lang="ts">
import type { Document } from '@uproar/client';
import { computed } from 'vue';
import ChoiceBox from '../../components/ChoiceBox.vue';
import OptionsBar from '../OptionsBar.vue';
import { formatCell, valueAt, type Field } from '../../table/fields';
import type { Frame } from '../../table/pausable-view';
import { chooseField, optionsOf } from '../field-choices';
import type { Presentation } from '../presentation';

/** The groups of a summary as bars, the largest value first. */
const props = defineProps<{
  frame: Frame;
  fields: readonly Field[];
  presentation: Presentation;
  bare?: boolean;
}>();
const emit = defineEmits<{ present: [change: Partial<Presentation>] }>();

const MOST_BARS = 60;
/** The totals have the form of a function: `count()`, `max(altitude)`. */
const isTotal = ({ name, numeric }: Field) => numeric && /\(.*\)/.test(name);
const totals = computed(() => props.fields.filter(isTotal));
const field = computed(() => chooseField(totals.value, props.presentation.field, isTotal));
const groupedBy = computed(() => props.fields.filter((one) => !/\(.*\)/.test(one.name)));

const labelOf = ({ data }: Document) =>
  groupedBy.value.map(({ path }) => formatCell(valueAt(data, path)) || '(none)').join(', ') || 'all';
const bars = computed(() => {
  const path = field.value?.path ?? [];
  return props.frame.view.documents
    .map((document) => ({
      id: document.id,
      label: labelOf(document),
      value: Number(valueAt(document.data, path) ?? 0),
    }))
    .sort((a, b) => b.value - a.value || (a.label < b.label ? -1 : 1));
});
const shown = computed(() => bars.value.slice(0, MOST_BARS));
// Negative values go to the left of a common zero.
const low = computed(() => Math.min(0, ...shown.value.map(({ value }) => value)));
const width = computed(() => Math.max(0, ...shown.value.map(({ value }) => value)) - low.value || 1);
const percent = (value: number) => `${(100 * value) / width.value}%`;
const format = (value: number) => Number(value.toFixed(3)).toLocaleString();
const options = computed(() => optionsOf(totals.value));
</script>

<template>
  <section class="bars" aria-label="Bars">
    <OptionsBar v-if="!bare && options.length > 1">
      <label
        >total
        <ChoiceBox
          small
          :value="field?.name"
          :options="options"
          @change="(name) => emit('present', { field: name ?? '' })"
      /></label>
    </OptionsBar>
    <ol v-if="field" class="list">
      <li v-for="bar in shown" :key="bar.id">
        <span class="label" :title="bar.label">{{ bar.label }}</span>
        <span class="track"
          ><i :style="{ left: percent(Math.min(0, bar.value) - low), width: percent(Math.abs(bar.value)) }"
        /></span>
        <output>{{ format(bar.value) }}</output>
      </li>
    </ol>
    <p v-if="bars.length > shown.length" class="more muted">
      The {{ MOST_BARS }} largest of {{ bars.length.toLocaleString() }} groups are shown. The table has all.
    </p>
    <div v-if="!field" class="nothing"><b>The summary has no number</b></div>
  </section>
</template>

<style scoped>
.bars {
  flex: 1;
  min-height: 0;
  overflow-y: auto;
}
.list {
  display: grid;
  grid-template-columns: fit-content(30%) minmax(0, 1fr) auto;
  gap: 6px 12px;
  align-items: center;
  margin: 0;
  padding: 12px 16px;
  list-style: none;
}
li {
  display: contents;
}
.label {
  overflow: hidden;
  text-align: right;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.track {
  position: relative;
  height: 18px;
}
i {
  position: absolute;
  top: 0;
  bottom: 0;
  min-width: 1px;
  border-radius: 2px;
  background: var(--accent);
  transition: width 0.3s;
}
output {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
.more {
  padding: 0 16px;
}
</style>
