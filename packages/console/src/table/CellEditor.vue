<script setup lang="ts">
import { isProblem, ProblemError, type Document, type JsonPatch, type JsonValue } from '@uproar/client';
import { findDataFault, formatPointer, JsonTextError, parseJson } from '@uproar/core';
import { inject, nextTick, onMounted, ref, useTemplateRef } from 'vue';
import { useStore } from '../injection';
import type { Column } from './layout';
import { CollectionKey } from './collection';

const props = defineProps<{ document: Document; column: Column; value: JsonValue | undefined }>();
const emit = defineEmits<{ done: [] }>();
const store = useStore();
const collection = inject(CollectionKey)!;
const input = useTemplateRef<HTMLInputElement>('input');

const isText = typeof props.value === 'string';
/** A text is edited as it reads; everything else, and what was missing, as JSON. */
const text = ref(props.value === undefined ? '' : isText ? String(props.value) : JSON.stringify(props.value));
const before = text.value;
const fault = ref('');
/** The value in the store now, where somebody else was faster. */
const theirs = ref<{ value: JsonValue | undefined }>();
const busy = ref(false);

onMounted(async () => {
  await nextTick();
  input.value?.focus();
  input.value?.select();
});

function read(): { value: JsonValue | undefined } | { fault: string } {
  if (isText) return { value: text.value };
  if (text.value.trim() === '') return { value: undefined };
  try {
    const value = parseJson(text.value);
    const found = findDataFault({ value });
    return found ? { fault: found.detail } : { value };
  } catch (error) {
    if (!(error instanceof JsonTextError)) throw error;
    // Who types a word into an empty cell means the word.
    if (props.value === undefined && /^[\p{L}][^"{}[\]]*$/u.test(text.value)) return { value: text.value };
    return { fault: 'This is neither a number, true, false, null, "text" nor other JSON.' };
  }
}

/** Sends the one field that was edited, if it is still as it was when editing began. */
async function save(over?: { value: JsonValue | undefined }): Promise<void> {
  if (busy.value) return;
  if (text.value === before && !over) return emit('done');
  const edited = read();
  if ('fault' in edited) {
    fault.value = edited.fault;
    return;
  }
  const was = over ? over.value : props.value;
  const path = formatPointer(props.column.path);
  const test: JsonPatch = was === undefined ? [] : [{ op: 'test', path, value: was }];
  if (edited.value === undefined && was === undefined) return emit('done');
  const op: JsonPatch[number] =
    edited.value === undefined ? { op: 'remove', path } : { op: 'add', path, value: edited.value };
  busy.value = true;
  fault.value = '';
  try {
    await store.collection(collection.value).patch(props.document.id, [...test, op]);
    emit('done');
  } catch (error) {
    if (isProblem(error, 'test-failed')) {
      const now = await store.collection(collection.value).get(props.document.id);
      let value: JsonValue | undefined = now?.data;
      for (const key of props.column.path) value = (value as Record<string, JsonValue> | undefined)?.[key];
      theirs.value = { value };
    } else fault.value = error instanceof ProblemError ? error.problem.detail : String(error);
  }
  busy.value = false;
}

const show = (value: JsonValue | undefined) => (value === undefined ? 'nothing' : JSON.stringify(value));

function leave(event: FocusEvent): void {
  const inside = (event.currentTarget as HTMLElement).contains(event.relatedTarget as Node | null);
  if (!inside && !fault.value && !theirs.value && text.value === before) emit('done');
}
</script>

<template>
  <span class="editor" @click.stop @dblclick.stop @focusout="leave">
    <input
      ref="input"
      v-model="text"
      class="mono"
      :aria-label="`${column.name} of ${document.id}`"
      :aria-invalid="fault !== ''"
      spellcheck="false"
      @keydown.stop.enter.prevent="save()"
      @keydown.stop.esc.prevent="emit('done')"
      @keydown.stop
    />
    <span v-if="theirs || fault" class="more" role="alert">
      <template v-if="theirs">
        <b>Somebody was faster.</b>
        <dl>
          <dt>was</dt>
          <dd>{{ show(value) }}</dd>
          <dt>theirs</dt>
          <dd>{{ show(theirs.value) }}</dd>
          <dt>yours</dt>
          <dd>{{ text }}</dd>
        </dl>
        <button type="button" @click="emit('done')">Keep theirs</button>
        <button type="button" @click="save(theirs)">Write mine</button>
      </template>
      <template v-else>{{ fault }}</template>
    </span>
    <span v-else class="more hint"
      >Enter saves{{ isText ? '' : ' · empty removes the field' }} · Esc leaves it as it is</span
    >
  </span>
</template>

<style scoped>
.editor {
  display: block;
  min-width: 60px;
}
input {
  width: calc(100% + 12px);
  height: 22px;
  margin: 0 -6px;
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
  font-style: normal;
  text-align: left;
  white-space: normal;
  box-shadow: 0 4px 16px rgb(0 0 0 / 14%);
}
.hint {
  padding: 2px 8px;
  color: var(--ink-3);
  font-size: 11.5px;
  pointer-events: none;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 10px;
  margin: 4px 0 8px;
  color: var(--ink);
  font-family: var(--mono);
  overflow-wrap: anywhere;
}
dt {
  color: var(--ink-3);
}
dd {
  margin: 0;
}
button {
  margin-right: 8px;
}
</style>
