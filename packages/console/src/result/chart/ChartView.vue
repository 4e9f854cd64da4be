<script setup lang="ts">
import type { Document } from '@uproar/client';
import uPlot from 'uplot';
import 'uplot/dist/uPlot.min.css';
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue';
import ChoiceBox from '../../components/ChoiceBox.vue';
import OptionsBar from '../OptionsBar.vue';
import { describeFailure } from '../../shared/failure';
import { useStore } from '../../shared/injection';
import { isDark } from '../../shared/theme';
import { formatCell, valueAt, type Field } from '../../table/fields';
import type { Frame } from '../../table/pausable-view';
import { chooseField, labelField, optionsOf } from '../field-choices';
import { colourAt } from '../palette';
import type { Presentation } from '../presentation';
import { alignLines, LineHistory } from './line-history';
import { readBack } from './read-back';

const props = defineProps<{
  /** Where the journal has earlier values; undefined where it has none, such as for totals. */
  journal: { collection: string; where: string } | undefined;
  frame: Frame;
  fields: readonly Field[];
  presentation: Presentation;
  picked: ReadonlySet<string>;
  bare?: boolean;
}>();
const emit = defineEmits<{ present: [change: Partial<Presentation>]; pick: [ids: string[]] }>();
const store = useStore();
const place = useTemplateRef<HTMLElement>('place');

/** More lines than this cannot be told apart. */
const MOST_LINES = 8;
const SPANS = [
  { value: 1, label: '1 minute' },
  { value: 5, label: '5 minutes' },
  { value: 15, label: '15 minutes' },
  { value: 60, label: '1 hour' },
  { value: 360, label: '6 hours' },
  { value: 1440, label: '24 hours' },
];
/** How often the chart moves on. */
const MOVE_ON_MS = 250;

const isNumber = ({ numeric }: Field) => numeric;
const numberFields = computed(() => props.fields.filter(isNumber));
const field = computed(() => chooseField(numberFields.value, props.presentation.field, isNumber));
const label = computed(() => labelField(props.fields, props.presentation.label));
const span = computed(() => props.presentation.minutes * 60_000);

const history = shallowRef(new LineHistory());
const reading = ref(false);
const failure = ref('');
/** How far back the values are known, in milliseconds since 1970. */
const knownSince = ref(Date.now());

// The drawn documents: the selected ones, otherwise the first of the result. Drawn documents stay while they are in the
// result, so that lines do not jump when the order changes.
let before: readonly string[] = [];
const lines = computed(() => {
  const { view } = props.frame;
  const picked = view.documents.filter(({ id }) => props.picked.has(id));
  if (picked.length > 0) return picked.slice(0, MOST_LINES);
  const kept = before.flatMap((id) => view.byId.get(id) ?? []);
  const others = kept.length < MOST_LINES ? view.documents.filter(({ id }) => !before.includes(id)) : [];
  const drawn = [...kept, ...others].slice(0, MOST_LINES);
  before = drawn.map(({ id }) => id);
  return drawn;
});
const labelOf = ({ id, data }: Document) => formatCell(label.value && valueAt(data, label.value.path)) || id;

function note(documents: Iterable<Document>): void {
  const path = field.value?.path;
  if (!path) return;
  for (const { id, data, updated } of documents) {
    const value = valueAt(data, path);
    history.value.add(
      id,
      updated === undefined ? Date.now() : Date.parse(updated),
      typeof value === 'number' ? value : null,
    );
  }
}
watch(
  () => props.frame.view.documents,
  () => note(lines.value),
);
watch(lines, (documents) => note(documents));

// Another field or span begins with what the journal has.
watch(
  () => JSON.stringify([field.value?.name, props.journal, span.value]),
  async (_, __, onCleanup) => {
    const stop = new AbortController();
    onCleanup(() => stop.abort());
    history.value = new LineHistory();
    failure.value = '';
    knownSince.value = Date.now();
    note(lines.value);
    if (!field.value || !props.journal) return;
    reading.value = true;
    try {
      const since = Date.now() - span.value;
      const known = await readBack(store, props.journal, field.value.path, since, history.value, stop.signal);
      if (!stop.signal.aborted) knownSince.value = known;
    } catch (error) {
      if (!stop.signal.aborted) failure.value = describeFailure(error);
    } finally {
      if (!stop.signal.aborted) reading.value = false;
    }
    draw();
  },
  { immediate: true },
);

const colourOf = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const CLOCK = new Intl.DateTimeFormat(undefined, { timeStyle: 'medium', hourCycle: 'h23' });
const format = (value: number | null | undefined) =>
  value === null || value === undefined ? '–' : Number(value.toFixed(3)).toLocaleString();
let plot: uPlot | undefined;
let drawnKey = '';

function dataNow(): uPlot.AlignedData {
  const until = Date.now();
  const { times, values } = alignLines(
    lines.value.map(({ id }) => history.value.get(id)),
    until - span.value,
    until,
  );
  return [times.map((time) => time / 1000), ...values];
}

/** Draws the chart; the plot is made anew where lines or colours are others. */
function draw(): void {
  if (!place.value || document.hidden || !field.value) return;
  const key = JSON.stringify([lines.value.map(labelOf), field.value.name, isDark.value]);
  const data = dataNow();
  if (key !== drawnKey) {
    drawnKey = key;
    plot?.destroy();
    plot = createPlot(data);
  } else plot?.setData(data);
  showReadings();
}

function createPlot(data: uPlot.AlignedData): uPlot {
  const axis = {
    stroke: colourOf('--ink-3'),
    grid: { stroke: colourOf('--line'), width: 1 },
    ticks: { show: false },
    font: '11px system-ui, sans-serif',
  };
  const { clientWidth: width, clientHeight: height } = place.value!;
  return new uPlot(
    {
      ...{ width, height, padding: [12, 16, 0, 0] },
      legend: { show: false },
      cursor: { y: false, points: { size: 6 } },
      axes: [
        { ...axis, space: 90, values: (_, times) => times.map((time) => CLOCK.format(time * 1000)) },
        { ...axis, size: 64, space: 30, values: (_, values) => values.map((value) => value.toLocaleString()) },
      ],
      series: [
        {},
        ...lines.value.map((document, index) => ({
          label: labelOf(document),
          stroke: colourAt(index, isDark.value),
          width: 1.8,
          points: { show: false },
          // A value holds until the next one.
          paths: uPlot.paths.stepped!({ align: 1 }),
        })),
      ],
      hooks: { setCursor: [showReadings] },
    },
    data,
    place.value!,
  );
}

const readings = useTemplateRef<HTMLElement>('readings');
/** The values under the pointer, or the newest. */
function showReadings(): void {
  const at = plot?.cursor.idx ?? (plot?.data[0].length ?? 1) - 1;
  readings.value?.querySelectorAll('output').forEach((output, index) => {
    output.textContent = format(plot?.data[index + 1]?.[at]);
  });
}

const observer = new ResizeObserver(([entry]) => {
  const { width, height } = entry!.contentRect;
  plot?.setSize({ width, height });
});
let timer: ReturnType<typeof setInterval> | undefined;
onMounted(() => {
  draw();
  observer.observe(place.value!);
  timer = setInterval(draw, MOVE_ON_MS);
});
onBeforeUnmount(() => {
  clearInterval(timer);
  observer.disconnect();
  plot?.destroy();
});

const texts = computed(() => props.fields.filter(({ type }) => type === 'text'));
const gap = computed(() => knownSince.value - (Date.now() - span.value));
</script>

<template>
  <section class="chart" aria-label="Chart">
    <OptionsBar v-if="!bare">
      <label
        >number
        <ChoiceBox
          small
          :value="field?.name"
          :options="optionsOf(numberFields)"
          @change="(name) => emit('present', { field: name ?? '' })"
      /></label>
      <label
        >name
        <ChoiceBox
          small
          :value="label?.name"
          :options="optionsOf(texts)"
          @change="(name) => emit('present', { label: name ?? '' })"
      /></label>
      <label
        >last
        <ChoiceBox
          small
          :value="presentation.minutes"
          :options="SPANS"
          @change="(minutes) => emit('present', { minutes })"
      /></label>
      <span v-if="reading" class="muted">Reading earlier values…</span>
      <span v-else-if="failure" class="bad">Earlier values cannot be read: {{ failure }}</span>
      <span v-else-if="gap > 2000" class="muted">Known since {{ CLOCK.format(knownSince) }}</span>
      <span v-if="frame.view.documents.length > lines.length" class="muted at-end"
        >{{ lines.length }} of {{ frame.view.documents.length.toLocaleString() }}; select rows to choose others</span
      >
    </OptionsBar>
    <ul ref="readings" class="readings">
      <li v-for="(document, index) in lines" :key="document.id">
        <i :style="{ background: colourAt(index, isDark) }" /><span class="name" :title="document.id">{{
          labelOf(document)
        }}</span>
        <output>–</output>
      </li>
    </ul>
    <div class="ground">
      <div
        v-show="field"
        ref="place"
        class="plot"
        role="img"
        :aria-label="`${field?.name} of ${lines.length} documents over time`"
      />
      <div v-if="!field" class="nothing">
        <b>No field of these documents holds a number</b>
      </div>
    </div>
  </section>
</template>

<style scoped src="./chart-view.css"></style>
