<script setup lang="ts">
import type { Document } from '@uproar/client';
import { isObject } from '@uproar/core';
import { formatCell, kindOf, valueAt } from './fields';
import type { Column } from './layout';

/** The cells of a row. They are rendered again only when the row has changed, not when it moves. */
defineProps<{
  document: Document;
  columns: readonly Column[];
  pickable: boolean;
  groups?: boolean;
  picked: boolean;
  /** The cell that the keyboard is in. */
  active: string | undefined;
  /** Whether the keyboard comes into the table by this row. */
  entry: boolean;
}>();
const emit = defineEmits<{
  open: [];
  pick: [range: boolean];
  touch: [key: string];
  edit: [column: Column];
  unfold: [name: string];
}>();

function textOf(document: Document, column: Column): string {
  if (!column.meta) return formatCell(valueAt(document.data, column.path));
  const value = document[column.name as 'version' | 'created' | 'updated' | 'expires'];
  return typeof value === 'string' ? value.replace('T', ' ').slice(0, 19) : String(value ?? '');
}

function classOf(document: Document, column: Column): string {
  return column.meta ? 'muted' : kindOf(valueAt(document.data, column.path));
}
</script>

<template>
  <span v-if="pickable" role="gridcell" class="pick">
    <input
      type="checkbox"
      tabindex="-1"
      :aria-label="`Select ${document.id}`"
      :checked="picked"
      @click.stop="emit('pick', $event.shiftKey)"
    />
  </span>
  <span
    v-if="!groups"
    role="gridcell"
    class="id mono"
    data-cell="id"
    :tabindex="entry && (active === undefined || active === 'id') ? 0 : -1"
    :title="`Open ${document.id}`"
    @click="emit('open')"
    >{{ document.id }}</span
  >
  <span
    v-for="(column, place) in columns"
    :key="column.key"
    role="gridcell"
    class="mono"
    :tabindex="active === column.key || (groups && place === 0 && entry && active === undefined) ? 0 : -1"
    :data-cell="column.key"
    :data-field="column.meta ? undefined : column.key"
    :class="[classOf(document, column), { numeric: column.numeric }]"
    @click="emit('touch', column.key)"
    @dblclick="emit('edit', column)"
    ><button
      v-if="!column.meta && isObject(valueAt(document.data, column.path) ?? null)"
      type="button"
      tabindex="-1"
      class="fold"
      :aria-label="`Show the members of ${column.name} as columns`"
      @click.stop="emit('unfold', column.name)"
    >
      ▸</button
    >{{ textOf(document, column) }}</span
  >
</template>

<style scoped src="./row-cells.css"></style>
