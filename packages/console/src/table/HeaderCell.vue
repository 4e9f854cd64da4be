<script setup lang="ts">
import { computed, ref } from 'vue';
import { labelOf, type FieldType } from './fields';
import type { Column } from './layout';

const props = defineProps<{
  column: Column;
  sorted: { place: number; descending: boolean } | undefined;
  /** The column to the right of it. */
  next: string | undefined;
}>();
const emit = defineEmits<{
  sort: [add: boolean];
  resize: [widthPx: number];
  move: [key: string, before: string | undefined];
  unfold: [];
}>();

const MIME = 'application/x-uproar-column';
const MARKS: Record<FieldType, string> = {
  text: 'abc',
  number: '123',
  'yes/no': 'y/n',
  time: 'time',
  place: 'geo',
  object: '{ }',
  list: '[ ]',
  empty: 'null',
  mixed: 'mix',
};
const over = ref(false);

const explanation = computed(() => {
  const { name, kinds, rare, near, count, meta } = props.column;
  if (meta) return `${name}: metadata of the store`;
  const misspelt = near.length > 0 ? ` Was ${near.map((other) => `“${other}”`).join(' or ')} meant?` : '';
  return `${name}: ${kinds}.${rare ? ` Only ${count} of the sampled documents ${count === 1 ? 'has' : 'have'} it.${misspelt}` : ''}`;
});

function drop(event: DragEvent): void {
  over.value = false;
  const key = event.dataTransfer?.getData(MIME);
  if (!key || key === props.column.key) return;
  const right = event.offsetX > (event.currentTarget as HTMLElement).clientWidth / 2;
  emit('move', key, right ? props.next : props.column.key);
}

function beginResize(event: PointerEvent): void {
  const handle = event.target as HTMLElement;
  const [from, width] = [event.clientX, props.column.widthPx];
  handle.setPointerCapture(event.pointerId);
  const follow = (moved: PointerEvent) => emit('resize', width + moved.clientX - from);
  handle.addEventListener('pointermove', follow);
  handle.addEventListener('pointerup', () => handle.removeEventListener('pointermove', follow), { once: true });
}

function resizeByKey(event: KeyboardEvent): void {
  const step = { ArrowLeft: -12, ArrowRight: 12 }[event.key];
  if (step === undefined) return;
  event.preventDefault();
  emit('resize', props.column.widthPx + step);
}
</script>

<template>
  <span
    role="columnheader"
    class="head"
    :class="{ over, rare: column.rare, mixed: column.type === 'mixed', right: column.numeric }"
    :aria-sort="sorted ? (sorted.descending ? 'descending' : 'ascending') : undefined"
    :title="explanation"
    @dragover.prevent="over = true"
    @dragleave="over = false"
    @drop.prevent="drop"
  >
    <button
      type="button"
      class="name"
      draggable="true"
      @dragstart="$event.dataTransfer?.setData(MIME, column.key)"
      @click="emit('sort', $event.shiftKey)"
    >
      <span v-if="!column.meta" class="type" aria-hidden="true">{{ MARKS[column.type] }}</span><span class="text">{{
        column.meta ? column.name : labelOf(column)
      }}</span
      ><span v-if="column.rare" class="mark" aria-label="rare">?</span
      ><span v-if="sorted" class="arrow" aria-hidden="true"
        >{{ sorted.descending ? '↓' : '↑' }}<sub v-if="sorted.place > 1">{{ sorted.place }}</sub></span
      >
    </button>
    <span
      class="grip"
      role="separator"
      aria-orientation="vertical"
      tabindex="-1"
      :aria-label="`Width of ${column.name}`"
      :aria-valuenow="column.widthPx"
      @pointerdown.prevent="beginResize"
      @keydown="resizeByKey"
    />
  </span>
</template>

<style scoped>
.row > .head {
  padding: 0;
}
.over {
  background: var(--accent-soft);
}
.name {
  display: flex;
  align-items: center;
  gap: 6px;
  width: 100%;
  height: 27px;
  padding: 0 10px;
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  font-weight: 600;
  cursor: pointer;
}
.name:hover {
  background: var(--paper-2);
}
.right .name {
  justify-content: flex-end;
}
.text {
  overflow: hidden;
  text-overflow: ellipsis;
}
.type {
  flex: none;
  color: var(--ink-3);
  font-family: var(--mono);
  font-size: 10px;
  font-weight: 400;
}
.mixed .type {
  color: var(--bad);
}
.rare .text {
  text-decoration: underline wavy var(--warn);
  text-underline-offset: 3px;
}
.mark {
  flex: none;
  padding: 0 5px;
  border-radius: 8px;
  background: var(--warn-soft);
  color: var(--warn);
  font-size: 11px;
  line-height: 16px;
}
.arrow {
  flex: none;
  color: var(--accent);
}
.grip {
  position: absolute;
  top: 4px;
  right: 0;
  width: 7px;
  height: 20px;
  border-right: 1px solid var(--line);
  cursor: col-resize;
  touch-action: none;
}
.grip:hover {
  border-right: 2px solid var(--accent);
}
</style>
