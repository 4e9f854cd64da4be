<script setup lang="ts">
import { computed, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue';
import { flash } from '../shared/flash';
import type { Frame } from './pausable-view';
import type { CellEdits } from './cell-edits';
import CellEditor from './CellEditor.vue';
import { valueAt } from './fields';
import { findAgain } from './find-again';
import HeaderCell from './HeaderCell.vue';
import type { Column } from './layout';
import RowCells from './RowCells.vue';
import { placeIn } from './sorting';
import { useEditorPlace } from './use-editor-place';

const props = defineProps<{
  collection: string;
  frame: Frame;
  columns: readonly Column[];
  order: string;
  /** The document that is open. */
  selected: string;
  /** The selected documents; undefined if the table has no selection. */
  picked?: ReadonlySet<string>;
  /** Documents that are marked beside the table, such as on a map. A single one is brought into sight. */
  marked?: ReadonlySet<string>;
  /** The edits of cells; left out where none can be edited. */
  edits?: CellEdits;
  /** Whether the rows are groups of a summary, whose ids say nothing. */
  groups?: boolean;
}>();
const emit = defineEmits<{
  open: [id: string];
  pick: [ids: string[], picked: boolean];
  sort: [column: Column, add: boolean];
  resize: [key: string, widthPx: number];
  move: [key: string, before: string | undefined];
  unfold: [name: string, unfolded: boolean];
}>();

const ROW_PX = 28;
/** Rows beyond the edges that are drawn all the same. */
const SPARE = 8;
const scroller = useTemplateRef<HTMLElement>('scroller');
const top = ref(0);
const height = ref(800);
const width = ref(800);
const documents = computed(() => props.frame.view.documents);
const first = computed(() => Math.max(0, Math.floor(top.value / ROW_PX) - SPARE));
const rows = computed(() =>
  documents.value.slice(first.value, first.value + Math.ceil(height.value / ROW_PX) + 2 * SPARE),
);
const idWidth = computed(() => {
  const longest = documents.value.slice(0, 200).reduce((most, { id }) => Math.max(most, id.length), 4);
  return Math.min(290, longest * 7.4 + 30);
});
const PICK_PX = 34;
const template = computed(() => {
  const pick = props.picked ? `${PICK_PX}px ` : '';
  const id = props.groups ? '' : `${idWidth.value}px `;
  const widths = props.columns.map(({ widthPx }) => `${widthPx}px`).join(' ');
  // The width is said, so that the browser does not work it out from the cells of each row.
  const widthPx =
    (props.picked ? PICK_PX : 0) +
    (props.groups ? 0 : idWidth.value) +
    props.columns.reduce((sum, column) => sum + column.widthPx, 0);
  return { gridTemplateColumns: `${pick}${id}${widths} minmax(0, 1fr)`, minWidth: `${widthPx}px` };
});

// The cell that is being edited. The edit is kept elsewhere; here is only the place of its editor.
const editing = computed(() => {
  const open = props.edits?.open.value;
  return open?.collection === props.collection ? open : undefined;
});
const {
  style: editorPlace,
  elsewhere,
  isInSight,
} = useEditorPlace(editing, {
  ...{ documents, top, height, width, rowPx: ROW_PX },
  byId: () => props.frame.view.byId,
  columns: () => props.columns,
  leftPx: () => (props.picked ? PICK_PX : 0) + (props.groups ? 0 : idWidth.value),
});

// Rows that appear or disappear above do not move what a person looks at: the edited row, or else the first visible
// one.
watch(
  () => props.frame,
  ({ view }, before) => {
    void keepFocus();
    // The map by id is only made where there is an edit.
    const row = editing.value && before.view.byId.get(editing.value.id);
    const edited = row ? before.view.documents.indexOf(row) : -1;
    const anchored = isInSight(edited);
    if (top.value < ROW_PX && !anchored) return;
    const at = anchored ? edited : Math.floor(top.value / ROW_PX);
    const moved = findAgain(view.documents, before.view.documents, at);
    if (moved === undefined || moved === at) return;
    top.value = Math.max(0, top.value + (moved - at) * ROW_PX);
    void nextTick(() => {
      if (scroller.value) scroller.value.scrollTop = top.value;
    });
  },
  { flush: 'pre' },
);

/** A row that changes its place takes the focus away from its cell, which gets it back. */
async function keepFocus(): Promise<void> {
  const focused = document.activeElement as HTMLElement | null;
  if (!scroller.value?.contains(focused) || focused?.dataset.cell === undefined) return;
  await nextTick();
  if (document.activeElement !== document.body || !active.value) return;
  (cellElement(active.value.id, active.value.key) ?? scroller.value)?.focus({ preventScroll: true });
}

watch(
  () => props.frame,
  async ({ altered }) => {
    if (altered.size === 0) return;
    await nextTick();
    for (const document of rows.value) {
      if (!altered.has(document.id)) continue;
      const row = scroller.value?.querySelector(`[data-row="${CSS.escape(document.id)}"]`);
      const before = altered.get(document.id);
      if (!before) {
        flash(row, 'entered');
        continue;
      }
      for (const { key, meta, path } of props.columns) {
        if (meta) continue;
        const [was, is] = [valueAt(before.data, path), valueAt(document.data, path)];
        if (was === is || JSON.stringify(was) === JSON.stringify(is)) continue;
        flash(row?.querySelector(`[data-field="${CSS.escape(key)}"]`), 'changed');
      }
    }
  },
);

const observer = new ResizeObserver(([entry]) => {
  ({ height: height.value, width: width.value } = entry!.contentRect);
});
onMounted(() => observer.observe(scroller.value!));
onBeforeUnmount(() => observer.disconnect());

watch(
  () => props.marked,
  (marked) => {
    if (marked?.size !== 1) return;
    const [only] = marked;
    const row = documents.value.findIndex(({ id }) => id === only);
    const y = row * ROW_PX;
    const element = scroller.value!;
    if (row === -1 || (y >= element.scrollTop && y + 2 * ROW_PX <= element.scrollTop + height.value)) return;
    element.scrollTop = top.value = Math.max(0, y - height.value / 2);
  },
);

// The keyboard: arrow keys move between cells, Enter opens the document or edits the cell, the space bar selects the
// row.
const active = shallowRef<{ id: string; key: string }>();
/** The row by which the keyboard comes in: that of the cell it left, otherwise the first that is drawn. */
const entry = computed(() => {
  const left = rows.value.some(({ id }) => id === active.value?.id);
  return left ? active.value!.id : rows.value[0]?.id;
});
const keys = computed(() => [...(props.groups ? [] : ['id']), ...props.columns.map(({ key }) => key)]);

async function focusCell(row: number, key: string): Promise<void> {
  const document = documents.value[Math.max(0, Math.min(documents.value.length - 1, row))];
  if (!document) return;
  active.value = { id: document.id, key };
  const y = documents.value.indexOf(document) * ROW_PX;
  const element = scroller.value!;
  if (y < element.scrollTop) element.scrollTop = top.value = y;
  else if (y + 2 * ROW_PX > element.scrollTop + height.value) {
    element.scrollTop = top.value = y + 2 * ROW_PX - height.value + 8;
  }
  await nextTick();
  cellElement(document.id, key)?.focus();
}

function cellElement(id: string, key: string): HTMLElement | null | undefined {
  return scroller.value?.querySelector<HTMLElement>(`[data-row="${CSS.escape(id)}"] [data-cell="${CSS.escape(key)}"]`);
}

function onKey(event: KeyboardEvent): void {
  if ((event.target as HTMLElement).closest('.editing')) return;
  if (event.key.toLowerCase() === 'z' && (event.ctrlKey || event.metaKey) && !event.shiftKey && props.edits) {
    event.preventDefault();
    return props.edits.undo();
  }
  // The focused cell was scrolled out of sight: keys continue from it.
  if (event.target === scroller.value && active.value && event.key.startsWith('Arrow')) {
    event.preventDefault();
    void focusCell(
      documents.value.findIndex(({ id }) => id === active.value!.id),
      active.value.key,
    );
    return;
  }
  const cell = (event.target as HTMLElement).closest<HTMLElement>('[data-cell]');
  const id = cell?.closest<HTMLElement>('[data-row]')?.dataset.row;
  if (!cell || id === undefined || cell !== event.target) return;
  const row = first.value + rows.value.findIndex((document) => document.id === id);
  const column = keys.value.indexOf(cell.dataset.cell!);
  const page = Math.max(1, Math.floor(height.value / ROW_PX) - 2);
  const steps: Record<string, [number, number]> = {
    ArrowDown: [1, 0],
    ArrowUp: [-1, 0],
    ArrowRight: [0, 1],
    ArrowLeft: [0, -1],
    PageDown: [page, 0],
    PageUp: [-page, 0],
    Home: [0, -column],
    End: [0, keys.value.length],
  };
  const step = steps[event.key];
  if (step) {
    const next = Math.max(0, Math.min(keys.value.length - 1, column + step[1]));
    void focusCell(row + step[0], keys.value[next]!);
  } else if (event.key === ' ' && props.picked) emit('pick', [id], !props.picked.has(id));
  else if (event.key === 'Enter' && cell.dataset.cell === 'id') emit('open', id);
  else if (event.key === 'Enter' || event.key === 'F2') edit(id, columnOf(cell.dataset.cell!));
  else return;
  event.preventDefault();
}

const columnOf = (key: string) => props.columns.find((column) => column.key === key);

function edit(id: string, column: Column | undefined): void {
  const document = rows.value.find((other) => other.id === id);
  if (!props.edits || !document || !column || column.meta) return;
  active.value = { id, key: column.key };
  props.edits.begin(document, column);
}

function saveEdit(then: 'stay' | 'next' | 'previous'): void {
  const edit = editing.value;
  if (!edit || !props.edits!.commit()) return;
  const at = keys.value.indexOf(edit.column) + { stay: 0, next: 1, previous: -1 }[then];
  focusRow(edit.id, keys.value[Math.max(0, Math.min(keys.value.length - 1, at))]!);
}

function discardEdit(): void {
  const edit = editing.value;
  if (!edit) return;
  props.edits!.discard(edit);
  focusRow(edit.id, edit.column);
}

/** Gives the focus to a cell; to the table itself where the row has gone. */
function focusRow(id: string, key: string): void {
  const row = documents.value.findIndex((document) => document.id === id);
  if (row === -1) scroller.value?.focus();
  else void focusCell(row, key);
}

/** Whether the table is being taken away: the editor loses the focus once more then. */
let leaving = false;
onBeforeUnmount(() => {
  leaving = true;
  if (editing.value) props.edits!.commit(true);
});
function leaveEdit(): void {
  if (!leaving) props.edits?.commit(true);
}

let lastPicked: string | undefined;
function pick(range: boolean, id: string): void {
  const to = documents.value.findIndex((document) => document.id === id);
  const from = range ? documents.value.findIndex((document) => document.id === lastPicked) : to;
  const [low, high] = from === -1 ? [to, to] : [Math.min(from, to), Math.max(from, to)];
  const ids = documents.value.slice(low, high + 1).map((document) => document.id);
  emit('pick', ids, !props.picked!.has(id));
  lastPicked = id;
}

const allPicked = computed(
  () => props.picked !== undefined && documents.value.length > 0 && props.picked.size >= documents.value.length,
);
</script>

<template>
  <div class="around">
    <div
      ref="scroller"
      class="scroller"
      role="grid"
      tabindex="-1"
      aria-label="Documents"
      :aria-rowcount="documents.length + 1"
      :aria-multiselectable="picked ? true : undefined"
      @scroll.passive="top = ($event.target as HTMLElement).scrollTop"
      @keydown="onKey"
    >
      <div class="row head" role="row" :style="template">
        <span v-if="picked" role="columnheader" class="pick">
          <input
            type="checkbox"
            aria-label="Select all"
            :checked="allPicked"
            @change="
              emit(
                'pick',
                documents.map(({ id }) => id),
                !allPicked,
              )
            "
          />
        </span>
        <span v-if="!groups" role="columnheader" class="id-head">id</span>
        <HeaderCell
          v-for="(column, index) in columns"
          :key="column.key"
          :column="column"
          :sorted="placeIn(order, column)"
          :next="columns[index + 1]?.key"
          @sort="(add) => emit('sort', column, add)"
          @resize="(widthPx) => emit('resize', column.key, widthPx)"
          @move="(key, before) => emit('move', key, before)"
          @unfold="emit('unfold', column.name, true)"
        />
      </div>
      <div
        role="rowgroup"
        class="body"
        :style="{ height: `${documents.length * ROW_PX}px`, minWidth: template.minWidth }"
      >
        <div v-if="editing" role="row" class="editing" :class="elsewhere ? 'docked' : 'in-cell'" :style="editorPlace">
          <CellEditor
            role="gridcell"
            :edit="editing"
            :elsewhere="elsewhere"
            @type="(text) => props.edits!.type(text)"
            @save="saveEdit"
            @leave="leaveEdit"
            @discard="discardEdit"
          />
        </div>
        <div role="presentation" :style="{ transform: `translateY(${first * ROW_PX}px)` }">
          <div
            v-for="(document, index) in rows"
            :key="document.id"
            class="row"
            role="row"
            :aria-rowindex="first + index + 2"
            :aria-selected="document.id === selected || picked?.has(document.id) || false"
            :data-row="document.id"
            :class="{
              selected: document.id === selected || marked?.has(document.id),
              pending: frame.view.pending.has(document.id),
            }"
            :style="template"
          >
            <RowCells
              :document="document"
              :columns="columns"
              :pickable="picked !== undefined"
              :groups="groups"
              :picked="picked?.has(document.id) ?? false"
              :active="active?.id === document.id ? active.key : undefined"
              :entry="entry === document.id"
              @open="emit('open', document.id)"
              @pick="(range) => pick(range, document.id)"
              @touch="(key) => (active = { id: document.id, key })"
              @edit="(column) => edit(document.id, column)"
              @unfold="(name) => emit('unfold', name, true)"
            />
          </div>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped src="./document-table.css"></style>
