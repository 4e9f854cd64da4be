<script setup lang="ts">
import { computed, defineAsyncComponent, ref, useTemplateRef, watch } from 'vue';
import type { CellEdits } from '../table/cell-edits';
import DataTable from '../table/DataTable.vue';
import type { Column, Columns } from '../table/layout';
import type { Frame } from '../table/pausable-view';
import type { Box } from './map/box';
import type { Presentation } from './presentation';

/** A live result: as a table, as a map or chart beside the table, or as cards. */
const props = defineProps<{
  collection: string;
  where: string;
  frame: Frame;
  order: string;
  presentation: Presentation;
  /** The document that is open. */
  selected: string;
  /** The selected documents, where the page lets documents be selected. */
  picked?: ReadonlySet<string>;
  /** The edits of cells; left out where none can be edited. */
  edits?: CellEdits;
  /** Whether documents can be changed from here. */
  editable: boolean;
  /** Whether the rows are groups of a summary. */
  totals?: boolean;
  collections: readonly string[];
}>();
const emit = defineEmits<{
  open: [id: string];
  pick: [ids: string[], on: boolean];
  pickOnly: [ids: string[]];
  sort: [column: Column, add: boolean];
  present: [change: Partial<Presentation>];
  narrow: [field: string, box: Box];
}>();
const DrawnResult = defineAsyncComponent(() => import('./DrawnResult.vue'));
const table = useTemplateRef<{ columns: Columns }>('table');
defineExpose({
  /** The columns of the table; undefined while there is none. */
  columns: () => table.value?.columns,
});

/** Where the page has no selection, the documents that were chosen on the map. */
const chosen = ref<ReadonlySet<string>>(new Set());
watch([() => props.collection, () => props.where], () => (chosen.value = new Set()));
const marked = computed(() => props.picked ?? chosen.value);
const drawn = computed(() => props.presentation.show !== 'table');
const beside = computed(() => props.totals || props.presentation.show !== 'cards');

function pickOnly(ids: string[]): void {
  if (props.picked) emit('pickOnly', ids);
  else chosen.value = new Set(ids);
}
</script>

<template>
  <div class="result" :class="totals && drawn ? 'chart' : presentation.show">
    <DrawnResult
      v-if="drawn"
      class="drawn"
      :collection="collection"
      :where="where"
      :frame="frame"
      :presentation="presentation"
      :totals="totals ?? false"
      :picked="marked"
      :selected="selected"
      :editable="editable"
      :collections="collections"
      @present="(change) => emit('present', change)"
      @pick="pickOnly"
      @open="(id) => emit('open', id)"
      @narrow="(field, box) => emit('narrow', field, box)"
    />
    <DataTable
      v-if="beside"
      ref="table"
      :collection="collection"
      :frame="frame"
      :order="order"
      :selected="selected"
      :picked="picked"
      :marked="marked"
      :edits="edits"
      :groups="totals"
      @open="(id) => emit('open', id)"
      @pick="(ids, on) => emit('pick', ids, on)"
      @sort="(column, add) => emit('sort', column, add)"
    />
  </div>
</template>

<style scoped>
.result {
  display: flex;
  flex: 1;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
}
.chart > .drawn {
  flex: 1 1 45%;
}
.chart > :deep(.table) {
  border-top: 1px solid var(--line);
}
@media (min-width: 1100px) {
  .map {
    flex-direction: row;
  }
  .map > .drawn {
    flex: 1 1 62%;
  }
  .map > :deep(.table) {
    flex: 1 1 38%;
    border-left: 1px solid var(--line);
  }
}
@media (max-width: 1099px) {
  .map > .drawn {
    flex: 1 1 60%;
  }
  .map > :deep(.table) {
    flex: 1 1 40%;
    border-top: 1px solid var(--line);
  }
}
/* On a phone, the page scrolls, so that a drawing has room. */
@media (max-width: 720px) {
  .map,
  .chart,
  .cards {
    flex: none;
  }
  .drawn {
    flex: none !important;
    height: 65vh;
  }
  .map > :deep(.table),
  .chart > :deep(.table) {
    flex: none;
    height: 55vh;
  }
}
</style>
