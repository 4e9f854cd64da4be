<script setup lang="ts">
import { nextTick, onMounted, useTemplateRef, watch } from 'vue';
import { isText, type CellEdit } from './cell-edits';

/**
 * The editor of a cell. The table keeps the same element for an edit while the row moves, so that it never loses the
 * focus; the text belongs to the edit.
 */
const props = defineProps<{
  edit: CellEdit;
  /** The description of a row that is scrolled out of sight; empty while the editor is in its cell. */
  elsewhere: string;
}>();
const emit = defineEmits<{
  type: [text: string];
  /** To be saved; then the focus goes to the cell itself, to the next one or to the one before. */
  save: [then: 'stay' | 'next' | 'previous'];
  /** The focus has gone somewhere else on the page. */
  leave: [];
  discard: [];
}>();
const input = useTemplateRef<HTMLInputElement>('input');

onMounted(begin);
watch(() => props.edit, begin);

async function begin(): Promise<void> {
  await nextTick();
  input.value?.focus();
  // Earlier typing continues; a value from the store is replaced.
  if (props.edit.text === props.edit.initial) input.value?.select();
}

function leave(event: FocusEvent): void {
  // A window in front takes the focus away for a while only.
  if (!document.hasFocus()) return;
  const inside = (event.currentTarget as HTMLElement).contains(event.relatedTarget as Node | null);
  if (!inside) emit('leave');
}
defineExpose({ focus: () => input.value?.focus() });
</script>

<template>
  <span class="editor" :class="{ elsewhere: elsewhere !== '' }" @click.stop @dblclick.stop @focusout="leave">
    <span v-if="elsewhere" class="where"
      ><b>{{ edit.name }}</b> of <b>{{ edit.id }}</b>, {{ elsewhere }}</span
    >
    <input
      ref="input"
      :value="edit.text"
      class="mono"
      :aria-label="`${edit.name} of ${edit.id}`"
      :aria-invalid="edit.fault !== ''"
      spellcheck="false"
      autocomplete="off"
      @input="emit('type', ($event.target as HTMLInputElement).value)"
      @keydown.stop.enter.prevent="emit('save', 'stay')"
      @keydown.stop.tab.prevent="emit('save', $event.shiftKey ? 'previous' : 'next')"
      @keydown.stop.esc.prevent="emit('discard')"
    />
    <span v-if="edit.fault" class="more" role="alert">{{ edit.fault }}</span>
    <span v-else class="more hint"
      >Enter or Tab saves{{ isText(edit) ? '' : ' · empty removes the field' }} · Esc discards</span
    >
  </span>
</template>

<style scoped>
.editor {
  position: relative;
  display: block;
  padding: 2px 4px;
}
input {
  width: 100%;
  height: 24px;
  padding: 0 5px;
  border: 1px solid var(--accent);
  border-radius: 3px;
  background: var(--paper);
  color: var(--ink);
}
.more {
  position: absolute;
  top: 100%;
  left: 0;
  width: max-content;
  max-width: 420px;
  padding: 6px 10px;
  border: 1px solid var(--line);
  border-radius: 5px;
  background: var(--paper);
  color: var(--bad);
  font:
    12px/1.5 system-ui,
    sans-serif;
  white-space: normal;
  box-shadow: 0 4px 16px rgb(0 0 0 / 14%);
}
.hint {
  padding: 2px 8px;
  color: var(--ink-3);
  font-size: 11.5px;
  pointer-events: none;
}
.elsewhere {
  display: flex;
  gap: 10px;
  align-items: center;
  padding: 5px 16px;
  border-bottom: 1px solid var(--line);
  background: var(--warn-soft);
}
.elsewhere .where {
  flex: none;
  max-width: 60%;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.elsewhere input {
  flex: 1;
  min-width: 80px;
  max-width: 420px;
}
.elsewhere .more {
  left: 16px;
}
</style>
