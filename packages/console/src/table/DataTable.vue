<script setup lang="ts">
import { toRef } from 'vue';
import type { Frame } from './pausable-view';
import type { CellEdits } from './cell-edits';
import ColumnMenu from './ColumnMenu.vue';
import DocumentTable from './DocumentTable.vue';
import { useColumns, type Column } from './layout';

const props = defineProps<{
  collection: string;
  frame: Frame;
  order: string;
  selected: string;
  picked?: ReadonlySet<string>;
  /** Documents that are marked beside the table, such as on a map. */
  marked?: ReadonlySet<string>;
  /** The edits of cells; left out where none can be edited. */
  edits?: CellEdits;
  /** Whether the rows are groups of a summary, whose ids say nothing. */
  groups?: boolean;
}>();
const emit = defineEmits<{
  open: [id: string];
  pick: [ids: string[], on: boolean];
  sort: [column: Column, add: boolean];
}>();
const columns = useColumns(
  props.collection,
  toRef(() => props.frame.view),
);
defineExpose({ columns });
</script>

<template>
  <div class="table">
    <Teleport defer to="#table-tools"><ColumnMenu :columns="columns" /></Teleport>
    <DocumentTable
      :collection="collection"
      :frame="frame"
      :columns="columns.shown.value"
      :order="order"
      :selected="selected"
      :picked="picked"
      :marked="marked"
      :edits="edits"
      :groups="groups"
      @open="(id) => emit('open', id)"
      @pick="(ids, on) => emit('pick', ids, on)"
      @sort="(column, add) => emit('sort', column, add)"
      @resize="columns.resize"
      @move="columns.move"
      @unfold="columns.unfold"
    />
  </div>
</template>

<style scoped>
.table {
  position: relative;
  display: flex;
  flex: 1;
  min-width: 0;
  min-height: 0;
}
</style>
