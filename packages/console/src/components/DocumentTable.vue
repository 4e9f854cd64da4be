<script setup lang="ts">
import type { View } from '@uproar/client';
import { computed, nextTick, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from 'vue';
import { findColumns, formatCell, kindOf, type Column } from '../columns';
import { flash } from '../flash';

const props = defineProps<{ view: View; selected: string }>();
const emit = defineEmits<{ open: [id: string] }>();

const ROW_PX = 28;
const scroller = useTemplateRef<HTMLElement>('scroller');
const top = ref(0);
const height = ref(800);
const columns = ref<Column[]>([]);

// Columns stay as they are while documents come and go; only fields not met before are added.
watch(
  () => props.view.documents,
  (documents) => {
    const found = findColumns(documents);
    if (columns.value.length === 0) columns.value = found;
    else {
      const known = new Set(columns.value.map(({ name }) => name));
      const fresh = found.filter(({ name }) => !known.has(name));
      if (fresh.length > 0) columns.value = [...columns.value, ...fresh];
    }
  },
  { immediate: true },
);

const first = computed(() => Math.max(0, Math.floor(top.value / ROW_PX) - 8));
const rows = computed(() =>
  props.view.documents.slice(first.value, first.value + Math.ceil(height.value / ROW_PX) + 16),
);
const grid = computed(() => ({
  gridTemplateColumns: `${idWidth.value}px 84px ${columns.value.map(({ widthPx }) => `${widthPx}px`).join(' ')} minmax(0, 1fr)`,
}));
const idWidth = computed(() => {
  const longest = props.view.documents.slice(0, 200).reduce((most, { id }) => Math.max(most, id.length), 4);
  return Math.min(290, longest * 7.4 + 30);
});

watch(
  () => props.view,
  async (view, before) => {
    if (before.state === 'loading' || view.changes.length === 0) return;
    await nextTick();
    for (const { id } of view.changes) {
      const row = scroller.value?.querySelector(`[data-row="${CSS.escape(id)}"]`);
      const is = view.byId.get(id)?.data;
      const was = before.byId.get(id)?.data;
      if (!row || !is) continue;
      if (!was) flash(row, 'entered');
      else
        for (const cell of row.querySelectorAll<HTMLElement>('[data-field]')) {
          const name = cell.dataset.field!;
          if (is[name] !== was[name] && JSON.stringify(is[name]) !== JSON.stringify(was[name])) flash(cell, 'changed');
        }
    }
  },
);

const observer = new ResizeObserver(([entry]) => (height.value = entry!.contentRect.height));
onMounted(() => observer.observe(scroller.value!));
onBeforeUnmount(() => observer.disconnect());

function move(event: KeyboardEvent): void {
  const row = (event.target as HTMLElement).closest<HTMLElement>('[data-row]');
  const sibling = event.key === 'ArrowDown' ? row?.nextElementSibling : row?.previousElementSibling;
  if (!(sibling instanceof HTMLElement) || !sibling.dataset.row) return;
  event.preventDefault();
  sibling.focus();
}
</script>

<template>
  <div
    ref="scroller"
    class="scroller"
    role="grid"
    aria-label="Documents"
    :aria-rowcount="view.documents.length + 1"
    @scroll.passive="top = scroller!.scrollTop"
    @keydown.down="move"
    @keydown.up="move"
  >
    <div class="row head" role="row" :style="grid">
      <span role="columnheader">id</span>
      <span role="columnheader" class="numeric">version</span>
      <span v-for="column in columns" :key="column.name" role="columnheader" :class="{ numeric: column.numeric }">
        {{ column.name }}
      </span>
    </div>
    <div role="rowgroup" class="body" :style="{ height: `${view.documents.length * ROW_PX}px` }">
      <div role="presentation" :style="{ transform: `translateY(${first * ROW_PX}px)` }">
        <div
          v-for="(document, index) in rows"
          :key="document.id"
          class="row"
          role="row"
          tabindex="0"
          :aria-rowindex="first + index + 2"
          :aria-selected="document.id === selected"
          :data-row="document.id"
          :class="{ selected: document.id === selected }"
          :style="grid"
          @click="emit('open', document.id)"
          @keydown.enter="emit('open', document.id)"
        >
          <span role="gridcell" class="id mono">{{ document.id }}</span>
          <span role="gridcell" class="mono numeric muted">{{ document.version }}</span>
          <span
            v-for="column in columns"
            :key="column.name"
            role="gridcell"
            class="mono"
            :data-field="column.name"
            :class="[kindOf(document.data[column.name]), { numeric: column.numeric }]"
            >{{ formatCell(document.data[column.name]) }}</span
          >
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.scroller {
  flex: 1;
  min-height: 0;
  overflow: auto;
  overflow-anchor: none;
}
.body {
  min-width: max-content;
}
.row {
  display: grid;
  height: 28px;
  min-width: max-content;
  border-bottom: 1px solid var(--line);
  cursor: pointer;
}
.row > span {
  padding: 0 10px;
  line-height: 27px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.row:hover {
  background: var(--paper-2);
}
.row.selected {
  background: var(--accent-soft);
}
.head {
  position: sticky;
  top: 0;
  z-index: 1;
  background: var(--paper);
  color: var(--ink-2);
  font-weight: 600;
  cursor: default;
}
.head:hover {
  background: var(--paper);
}
.id {
  font-weight: 600;
}
.numeric {
  text-align: right;
}
.string {
  color: var(--ink);
}
.number {
  color: var(--number);
}
.boolean {
  color: var(--boolean);
}
.object,
.null {
  color: var(--ink-3);
}
</style>
