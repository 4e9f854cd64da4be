<script setup lang="ts">
import type { JsonValue } from '@uproar/client';
import { Button } from 'ant-design-vue';
import { onBeforeUnmount, shallowRef, watch } from 'vue';
import type { CellEdit, CellEdits } from './cell-edits';

/** Unsaved cell edits: the text, the reason why it is not saved, and the possible actions. */
const props = defineProps<{ edits: CellEdits }>();

/** An edit that is saved within this time is not shown as pending. */
const SHOWN_AFTER_MS = 700;
const shown = shallowRef<readonly CellEdit[]>([]);
let timer: ReturnType<typeof setTimeout> | undefined;
watch(
  () => props.edits.unsaved.value.map((edit) => [edit, edit.state] as const),
  (unsaved) => {
    clearTimeout(timer);
    const slow = new Set(shown.value);
    shown.value = unsaved.filter(([edit, state]) => state === 'unsaved' || slow.has(edit)).map(([edit]) => edit);
    if (shown.value.length === unsaved.length) return;
    timer = setTimeout(() => (shown.value = [...props.edits.unsaved.value]), SHOWN_AFTER_MS);
  },
  { immediate: true },
);
onBeforeUnmount(() => clearTimeout(timer));

const show = (value: JsonValue | undefined) => (value === undefined ? 'no value' : JSON.stringify(value));
</script>

<template>
  <ul v-if="shown.length > 0" class="unsaved" aria-label="Edits that are not saved">
    <li v-for="edit in shown" :key="`${edit.id} ${edit.column}`">
      <div class="edit" :role="edit.state === 'unsaved' ? 'alert' : undefined">
        <span class="what">
          <b>{{ edit.state === 'saving' ? 'Saving' : 'Not saved' }}: {{ edit.name }} of {{ edit.id }}</b>
          <span class="mono typed">{{ edit.text }}</span>
          <span v-if="edit.fault" class="why">{{ edit.fault }}</span>
          <dl v-if="edit.theirs">
            <dt>was</dt>
            <dd>{{ show(edit.was) }}</dd>
            <dt>theirs</dt>
            <dd>{{ show(edit.theirs.value) }}</dd>
            <dt>yours</dt>
            <dd>{{ edit.text }}</dd>
          </dl>
        </span>
        <span v-if="edit.state === 'unsaved'" class="choices">
          <Button v-if="edit.theirs" size="small" @click="edits.overwrite(edit)">Save yours</Button>
          <Button v-if="edit.gone" size="small" @click="edits.restore(edit)">Recreate the document</Button>
          <Button v-if="!edit.theirs" size="small" @click="edits.resume(edit)">Edit</Button>
          <Button size="small" type="text" @click="edits.discard(edit)">{{
            edit.theirs ? 'Keep theirs' : 'Discard'
          }}</Button>
        </span>
      </div>
    </li>
  </ul>
</template>

<style scoped>
.unsaved {
  max-height: 40%;
  margin: 0;
  padding: 0;
  overflow: auto;
  border-bottom: 1px solid var(--line);
  background: var(--warn-soft);
  list-style: none;
}
.edit {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 12px;
  align-items: center;
  padding: 5px 16px;
}
li + li {
  border-top: 1px solid var(--line);
}
.what {
  display: flex;
  flex: 1 1 300px;
  flex-wrap: wrap;
  gap: 2px 10px;
  align-items: baseline;
  min-width: 0;
}
.typed {
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.why {
  color: var(--bad);
}
.choices {
  display: flex;
  gap: 6px;
}
dl {
  display: grid;
  flex-basis: 100%;
  grid-template-columns: max-content 1fr;
  gap: 0 10px;
  margin: 0;
  font-family: var(--mono);
  font-size: 12px;
  overflow-wrap: anywhere;
}
dt {
  color: var(--ink-3);
}
dd {
  margin: 0;
}
</style>
