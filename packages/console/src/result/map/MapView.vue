<script setup lang="ts">
import type { Document } from '@uproar/client';
import 'ol/ol.css';
import { Button } from 'ant-design-vue';
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue';
import ChoiceBox from '../../components/ChoiceBox.vue';
import OptionsBar from '../OptionsBar.vue';
import { isDark } from '../../shared/theme';
import { formatCell, valueAt, type Field } from '../../table/fields';
import type { Frame } from '../../table/pausable-view';
import { chooseField, labelField, optionsOf } from '../field-choices';
import { useColourScale } from '../use-colour-scale';
import type { Presentation } from '../presentation';
import type { Box } from './box';
import { DocumentMap, projected, type Shape } from './document-map';
import { MovingPoints } from './moving-points';
import type { PointStyle } from './point-painter';
import { isPlace, placeOf, type Geometry } from './read-places';
import { useBaseLayer } from './use-base-layer';

const props = defineProps<{
  frame: Frame;
  fields: readonly Field[];
  presentation: Presentation;
  picked: ReadonlySet<string>;
  selected: string;
  /** The collections that can be base layers. */
  collections: readonly string[];
  /** On a page with several results, without the controls. */
  bare?: boolean;
}>();
const emit = defineEmits<{
  present: [change: Partial<Presentation>];
  pick: [ids: string[]];
  open: [id: string];
  narrow: [field: string, box: Box];
}>();
const element = useTemplateRef<HTMLElement>('element');
const still = matchMedia('(prefers-reduced-motion: reduce)');

const placeFields = computed(() => props.fields.filter(isPlace));
const field = computed(() => chooseField(placeFields.value, props.presentation.field, isPlace));
const label = computed(() => labelField(props.fields, props.presentation.label));
const colourField = computed(() => props.fields.find(({ name }) => name === props.presentation.colour));
const colourable = computed(() => props.fields.filter(({ type }) => ['text', 'number', 'yes/no'].includes(type)));

const scale = useColourScale(colourField, () => props.frame.view.documents);
let coloured: unknown;

/** More shapes than this are not drawn. */
const MOST_SHAPES = 3000;
const points = new MovingPoints();
const missing = ref(0);
let map: DocumentMap | undefined;
let shapes = new Map<string, Document>();

const labelOf = ({ id, data }: Document) => formatCell(label.value && valueAt(data, label.value.path)) || id;
const colourVariable = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

function styleNow(): PointStyle {
  return {
    colours: scale.value.colours,
    ...{ ink: colourVariable('--ink'), paper: colourVariable('--paper'), accent: colourVariable('--accent') },
    trails: props.presentation.trails,
    labelOf: ({ document }) => labelOf(document),
    ...{ picked: props.picked, selected: shownId.value ?? props.selected },
  };
}

let fitted = false;
function update(): void {
  if (!map || !field.value) return;
  const { path } = field.value;
  const { documents } = props.frame.view;
  const found = new Map<string, { document: Document; geometry: Geometry }>();
  const place = (document: Document) => {
    const at = placeOf(document, path);
    if (at && 'shape' in at) found.set(document.id, { document, geometry: at.shape });
    return at && 'point' in at ? projected(at.point) : undefined;
  };
  const count = points.update(
    documents,
    place,
    scale.value.indexOf,
    performance.now(),
    still.matches,
    coloured !== scale.value,
  );
  coloured = scale.value;
  missing.value = documents.length - count - found.size;
  drawShapes([...found.values()].slice(0, MOST_SHAPES));
  map.draw(styleNow());
  if (!fitted && (count > 0 || found.size > 0)) fit();
}

/** Draws the shapes anew where one of them has changed. */
function drawShapes(found: readonly { document: Document; geometry: Geometry }[]): void {
  const same = found.length === shapes.size && found.every(({ document }) => shapes.get(document.id) === document);
  if (same) return;
  shapes = new Map(found.map(({ document }) => [document.id, document]));
  const drawn = found.map(({ document, geometry }): Shape => {
    const colour = scale.value.colours[scale.value.indexOf(document)]!;
    return { id: document.id, geometry, colour, label: labelOf(document) };
  });
  map!.setShapes(drawn, props.picked);
}

function restyle(): void {
  if (!map) return;
  const [line, ink, base] = ['--line', '--ink-3', '--ink-3'].map(colourVariable) as [string, string, string];
  map.setColours({ line, ink, base, paper: colourVariable('--paper'), accent: colourVariable('--accent') });
  shapes = new Map();
  update();
}

function fit(): void {
  fitted = true;
  map?.fit();
}

const observer = new ResizeObserver(() => map?.resize());
onMounted(() => {
  map = new DocumentMap(element.value!, points, styleNow(), {
    click: (id, add) => {
      shownId.value = id;
      box.value = undefined;
      if (id === undefined) return add ? undefined : emit('pick', []);
      const others = add ? [...props.picked].filter((one) => one !== id) : [];
      emit('pick', add && props.picked.has(id) ? others : [...others, id]);
    },
    hover: (id, x, y) => (hovered.value = id === undefined ? undefined : { id, x, y }),
    box: (drawn) => {
      boxing.value = false;
      box.value = drawn;
    },
  });
  map.boxAlways = boxing.value;
  restyle();
  map.setBase(baseShapes.value);
  observer.observe(element.value!);
});
onBeforeUnmount(() => {
  observer.disconnect();
  map?.end();
});
watch([() => props.frame, field], update);
watch([scale, label], () => {
  shapes = new Map();
  update();
});
watch([() => props.picked, () => props.selected, () => props.presentation.trails], () => {
  shapes = new Map();
  update();
});
watch(isDark, () => requestAnimationFrame(restyle));
watch(
  () => props.presentation.field,
  () => (fitted = false),
  { flush: 'sync' },
);

// What is pointed at, and what was clicked.
const hovered = shallowRef<{ id: string; x: number; y: number }>();
const hoveredDocument = computed(() => hovered.value && props.frame.view.byId.get(hovered.value.id));
const shownId = ref<string>();
const shown = computed(() => (shownId.value === undefined ? undefined : props.frame.view.byId.get(shownId.value)));
const MOST_FACTS = 7;
const facts = computed(() => {
  const { data } = shown.value ?? { data: {} };
  return props.fields
    .filter((one) => !isPlace(one) && one !== label.value && valueAt(data, one.path) !== undefined)
    .slice(0, MOST_FACTS)
    .map(({ name, path }) => ({ name, value: formatCell(valueAt(data, path)) }));
});
watch(
  () => props.picked,
  (picked) => {
    if (picked.size !== 1) return;
    const [only] = picked;
    shownId.value = only;
    map?.reveal(only!);
  },
);

// A box that was drawn: its documents can be selected, or become the condition.
const boxing = ref(false);
watch(boxing, (on) => {
  if (map) map.boxAlways = on;
});
const box = shallowRef<Box>();
const inBox = computed(() => {
  void props.frame;
  return box.value && map ? map.idsWithin(box.value) : [];
});
function pickBox(): void {
  emit('pick', inBox.value);
  box.value = undefined;
}
function narrow(): void {
  emit('narrow', field.value!.name, box.value!);
  box.value = undefined;
}

const {
  shapes: baseShapes,
  options: bases,
  choose: chooseBase,
} = useBaseLayer(
  () => props.presentation.base,
  () => props.collections,
  (base) => emit('present', { base }),
);
watch(baseShapes, (now) => {
  map?.setBase(now);
  if (!fitted) map?.fit();
});
</script>

<template>
  <section class="map" aria-label="Map">
    <OptionsBar v-if="!bare">
      <label
        >place
        <ChoiceBox
          small
          :value="field?.name"
          :options="optionsOf(placeFields)"
          @change="(name) => emit('present', { field: name ?? '' })"
      /></label>
      <label
        >name
        <ChoiceBox
          small
          :value="label?.name"
          :options="optionsOf(colourable)"
          @change="(name) => emit('present', { label: name ?? '' })"
      /></label>
      <label
        >colour
        <ChoiceBox
          small
          placeholder="one for all"
          :value="colourField?.name"
          :options="optionsOf(colourable)"
          @change="(name) => emit('present', { colour: name ?? '' })"
      /></label>
      <label
        >base layer
        <ChoiceBox
          small
          placeholder="none"
          :value="presentation.base || undefined"
          :options="bases"
          @change="chooseBase"
      /></label>
      <label class="check"
        ><input
          type="checkbox"
          :checked="presentation.trails"
          @change="emit('present', { trails: !presentation.trails })"
        />
        trails</label
      >
      <span class="buttons at-end">
        <Button
          size="small"
          :type="boxing ? 'primary' : 'default'"
          :aria-pressed="boxing"
          title="Or hold Shift and drag"
          @click="boxing = !boxing"
          >Select a box</Button
        >
        <Button size="small" title="Show all documents" @click="fit">Show all</Button>
      </span>
    </OptionsBar>
    <div class="ground">
      <div
        ref="element"
        class="canvas"
        tabindex="0"
        role="group"
        :aria-label="`Map of ${frame.view.documents.length - missing} documents. Arrow keys move it, plus and minus zoom.`"
      />
      <div v-if="!field" class="without">
        <b>No field of these documents holds a place</b>
        <span class="muted"
          >A place is GeoJSON, such as <code>{"type": "Point", "coordinates": [0.13, 0.02]}</code>.</span
        >
      </div>
      <ul v-if="scale.legend.length > 0" class="legend" :aria-label="`Colours by ${colourField?.name}`">
        <li v-for="entry in scale.legend" :key="entry.label">
          <i :style="{ background: entry.colour }" />{{ entry.label }}
        </li>
      </ul>
      <div
        v-if="hovered && hoveredDocument"
        class="tip"
        :style="{ left: `${hovered.x + 12}px`, top: `${hovered.y + 10}px` }"
      >
        {{ labelOf(hoveredDocument) }} <span class="muted mono">{{ hovered.id }}</span>
      </div>
      <aside v-if="shown && !bare" class="card" aria-label="Selected document">
        <header>
          <b>{{ labelOf(shown) }}</b>
          <Button type="text" size="small" aria-label="Close" @click="shownId = undefined">×</Button>
        </header>
        <dl>
          <template v-for="fact in facts" :key="fact.name">
            <dt>{{ fact.name }}</dt>
            <dd class="mono">{{ fact.value }}</dd>
          </template>
        </dl>
        <Button size="small" @click="emit('open', shown.id)">Open {{ shown.id }}</Button>
      </aside>
      <div v-if="box" class="boxed" role="status">
        <b>{{ inBox.length.toLocaleString() }} in the box</b>
        <Button size="small" type="primary" :disabled="inBox.length === 0" @click="pickBox">Select</Button>
        <Button size="small" title="Add the box to the condition" @click="narrow">Show only these</Button>
        <Button size="small" type="text" @click="box = undefined">Cancel</Button>
      </div>
      <span v-if="missing > 0 && field" class="missing muted"
        >{{ missing.toLocaleString() }} without a place in {{ field.name }}</span
      >
    </div>
  </section>
</template>

<style scoped src="./map-view.css"></style>
