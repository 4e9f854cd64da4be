<script setup lang="ts">
import { Button, Popover } from 'ant-design-vue';
import { computed, onBeforeUnmount, ref, watch } from 'vue';
import type { Columns } from './layout';

const props = defineProps<{ columns: Columns }>();
const hidden = computed(() => props.columns.all.value.length - props.columns.shown.value.length);

/** Escape closes it: it covers the heads of columns that can be dragged. */
const open = ref(false);
const close = (event: KeyboardEvent) => {
  if (event.key === 'Escape') open.value = false;
};
watch(open, (isOpen) => {
  if (isOpen) document.addEventListener('keydown', close);
  else document.removeEventListener('keydown', close);
});
onBeforeUnmount(() => document.removeEventListener('keydown', close));

function step(index: number, by: number): void {
  const all = props.columns.all.value;
  const before = by < 0 ? all[index - 1]?.key : all[index + 2]?.key;
  props.columns.move(all[index]!.key, before);
}
</script>

<template>
  <Popover v-model:open="open" trigger="click" placement="bottomRight" :overlay-style="{ width: '300px' }">
    <Button size="small">Columns{{ hidden > 0 ? ` (${hidden} hidden)` : '' }}</Button>
    <template #content>
      <ul aria-label="Columns">
        <li v-for="(column, index) in columns.all.value" :key="column.key">
          <label :title="column.kinds">
            <input
              type="checkbox"
              :checked="columns.isShown(column.key)"
              @change="columns.show(column.key, ($event.target as HTMLInputElement).checked)"
            />
            <span class="name" :class="{ meta: column.meta }">{{ column.name }}</span>
          </label>
          <span class="kind">{{ column.meta ? 'metadata' : column.type }}</span>
          <button
            type="button"
            :aria-label="`${column.name} to the left`"
            :disabled="index === 0"
            @click="step(index, -1)"
          >
            ↑
          </button>
          <button
            type="button"
            :aria-label="`${column.name} to the right`"
            :disabled="index === columns.all.value.length - 1"
            @click="step(index, 1)"
          >
            ↓
          </button>
        </li>
      </ul>
      <div v-if="columns.unfolded.value.length > 0" class="unfolded">
        Unfolded:
        <Button
          v-for="name in columns.unfolded.value"
          :key="name"
          size="small"
          type="link"
          :title="`Show ${name} as one column again`"
          @click="columns.unfold(name, false)"
        >
          {{ name }} ✕
        </Button>
      </div>
      <Button v-if="columns.altered.value" size="small" type="link" @click="columns.reset()">Reset columns</Button>
    </template>
  </Popover>
</template>

<style scoped>
ul {
  max-height: 50vh;
  margin: 0;
  padding: 0;
  overflow: auto;
  list-style: none;
}
li {
  display: flex;
  align-items: center;
  gap: 4px;
  padding: 1px 4px;
  border-radius: 4px;
}
li:hover {
  background: var(--paper-2);
}
label {
  display: flex;
  flex: 1;
  gap: 8px;
  align-items: center;
  min-width: 0;
}
.name {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.meta {
  font-style: italic;
}
.kind {
  color: var(--ink-3);
  font-size: 11px;
}
li button {
  padding: 0 5px;
  border: 0;
  border-radius: 4px;
  background: none;
  color: var(--ink-2);
  cursor: pointer;
}
li button:disabled {
  opacity: 0.3;
}
.unfolded {
  margin-top: 8px;
  font-size: 12px;
}
</style>
