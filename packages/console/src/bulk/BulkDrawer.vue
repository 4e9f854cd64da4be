<script setup lang="ts">
import type { Document, JsonValue } from '@uproar/client';
import { JsonTextError, parseJson, splitName } from '@uproar/core';
import { Alert, Button, Checkbox, Drawer, Input, Progress, Segmented } from 'ant-design-vue';
import { computed, onBeforeUnmount, ref, shallowRef, watch } from 'vue';
import { MOST_UNDONE, writeMany } from '../actions/write-many';
import { useNotices, useStore } from '../shared/injection';
import { findDeepFields } from '../result/field-choices';
import { formatCell, labelOf, type Field } from '../table/fields';
import { planEdit, type BulkEdit, type EditPlan } from './plan-edit';

/** Makes one change to many documents: shows what it will do, does it, and undoes it as one step. */
const props = defineProps<{
  collection: string;
  /** The selected documents. */
  picked: readonly Document[];
  /** All documents that match the condition. */
  matching: readonly Document[];
}>();
const emit = defineEmits<{ close: [] }>();
const store = useStore();
const notices = useNotices();

const PREVIEWED = 60;
/** With more documents, working out what changes would take too long in a browser. */
const MOST_EDITED = 50_000;
/** The preview follows the documents, but not with every frame. */
const FOLLOW_MS = 300;
const MAX_VALUE_CHARACTERS = 100_000;
const KINDS = [
  { value: 'set', label: 'Set a field' },
  { value: 'add', label: 'Add to a number' },
  { value: 'replace', label: 'Find and replace' },
  { value: 'remove', label: 'Remove a field' },
];
const kind = ref<BulkEdit['kind']>('set');
const scope = ref<'picked' | 'matching'>(props.picked.length > 0 ? 'picked' : 'matching');
const name = ref('');
const value = ref('');
const find = ref('');
const by = ref('');
const matchCase = ref(true);

const documents = computed(() => (scope.value === 'picked' ? props.picked : props.matching));
/** Fields of the documents when the drawer was opened: the list does not move while it is read. */
const fields: readonly Field[] = findDeepFields(props.matching);
const field = computed(() => fields.find((one) => one.name === name.value || labelOf(one) === name.value));

const path = computed((): readonly string[] | undefined => {
  if (field.value) return field.value.path;
  try {
    return name.value.trim() === '' ? undefined : splitName(name.value.trim());
  } catch {
    return undefined;
  }
});

/** Text fields take the value as it is typed; others as JSON, and as text if it is none. */
function readValue(): JsonValue {
  const text = value.value;
  if (field.value?.type === 'text' || field.value?.type === 'time') return text;
  try {
    return parseJson(text);
  } catch (error) {
    if (error instanceof JsonTextError) return text;
    throw error;
  }
}

const read = computed((): { edit: BulkEdit } | { fault: string } => {
  if (documents.value.length > MOST_EDITED) {
    return {
      fault: `At most ${MOST_EDITED.toLocaleString()} documents can be edited at once. Narrow the condition, or use uproar rewrite.`,
    };
  }
  if (kind.value === 'replace') {
    if (find.value === '') return { fault: '' };
    const where = name.value.trim() === '' ? undefined : path.value;
    if (name.value.trim() !== '' && !where) return { fault: `“${name.value}” is not the name of a field.` };
    return { edit: { kind: 'replace', path: where, find: find.value, by: by.value, matchCase: matchCase.value } };
  }
  if (name.value.trim() === '') return { fault: '' };
  if (!path.value) return { fault: `“${name.value}” is not the name of a field.` };
  if (kind.value === 'remove') return { edit: { kind: 'remove', path: path.value } };
  if (kind.value === 'add') {
    const amount = Number(value.value.trim());
    if (value.value.trim() === '' || !Number.isFinite(amount))
      return { fault: value.value.trim() === '' ? '' : 'Enter a number, such as -5 or 0.25.' };
    return { edit: { kind: 'add', path: path.value, by: amount } };
  }
  if (value.value === '' && field.value && !['text', 'time', 'empty', 'mixed'].includes(field.value.type))
    return { fault: '' };
  return { edit: { kind: 'set', path: path.value, value: readValue() } };
});

const state = ref<'ready' | 'running'>('ready');
const tried = ref(0);
let abort = new AbortController();
/** What was worked out last. While it is written, it does not follow the documents. */
const plan = shallowRef<EditPlan>();
function work(): void {
  if (state.value === 'ready')
    plan.value = 'edit' in read.value ? planEdit(documents.value, read.value.edit) : undefined;
}
let timer: ReturnType<typeof setTimeout> | undefined;
watch(read, work, { immediate: true });
watch(documents, () => {
  timer ??= setTimeout(() => {
    timer = undefined;
    work();
  }, FOLLOW_MS);
});
onBeforeUnmount(() => clearTimeout(timer));
const kindOfValue = computed(() => {
  if (!('edit' in read.value) || read.value.edit.kind !== 'set') return '';
  const { value: typed } = read.value.edit;
  return typed === null
    ? 'null'
    : Array.isArray(typed)
      ? 'a list'
      : { string: 'text', number: 'a number', boolean: 'yes/no', object: 'an object' }[typeof typed as 'string'];
});

async function apply(): Promise<void> {
  const { writes } = plan.value!;
  state.value = 'running';
  tried.value = 0;
  abort = new AbortController();
  const outcome = await writeMany(
    store,
    notices,
    props.collection,
    writes,
    { done: 'Changed', failed: 'Not changed' },
    {
      signal: abort.signal,
      onWritten: (items) => (tried.value += items.length),
    },
  );
  state.value = 'ready';
  if (outcome.left.length === 0 && outcome.refused.length === 0) emit('close');
  else work();
}

/** Closes the drawer. While it writes, it only stops that. */
function close(): void {
  if (state.value === 'running') abort.abort();
  else emit('close');
}
const ask = (event: BeforeUnloadEvent) => {
  if (state.value === 'running') event.preventDefault();
};
addEventListener('beforeunload', ask);
onBeforeUnmount(() => {
  abort.abort();
  removeEventListener('beforeunload', ask);
});
const count = (number: number, one = 'document', many = 'documents') =>
  `${number.toLocaleString()} ${number === 1 ? one : many}`;
</script>

<template>
  <Drawer
    open
    :title="`Edit many in ${collection}`"
    :width="'min(680px, 100vw)'"
    :body-style="{ padding: '16px', display: 'flex', flexDirection: 'column', gap: '12px' }"
    @close="close"
  >
    <Segmented v-model:value="kind" class="kinds" :options="KINDS" aria-label="Kind of edit" />
    <div class="scope" role="radiogroup" aria-label="Which documents">
      <label v-if="picked.length > 0"
        ><input v-model="scope" type="radio" value="picked" /> the
        {{ count(picked.length, 'selected document', 'selected documents') }}</label
      >
      <label
        ><input v-model="scope" type="radio" value="matching" /> all {{ count(matching.length) }} that the table
        shows</label
      >
    </div>
    <form class="fields" @submit.prevent="plan && plan.writes.length > 0 && apply()">
      <label
        >{{ kind === 'replace' ? 'in the field (empty: in all)' : 'field' }}
        <Input
          v-model:value="name"
          class="mono"
          list="bulk-fields"
          spellcheck="false"
          autocomplete="off"
          placeholder="status"
        />
      </label>
      <datalist id="bulk-fields"><option v-for="one in fields" :key="one.name" :value="labelOf(one)" /></datalist>
      <template v-if="kind === 'replace'">
        <label>find <Input v-model:value="find" class="mono" spellcheck="false" :maxlength="1000" /></label>
        <label>replace by <Input v-model:value="by" class="mono" spellcheck="false" :maxlength="10_000" /></label>
        <Checkbox v-model:checked="matchCase" class="case">match capital letters</Checkbox>
      </template>
      <label v-else-if="kind !== 'remove'"
        >{{ kind === 'add' ? 'amount' : 'value' }}
        <Input
          v-model:value="value"
          class="mono"
          spellcheck="false"
          :maxlength="MAX_VALUE_CHARACTERS"
          :placeholder="kind === 'add' ? '-5' : 'landed, 420, true, or other JSON'"
        />
        <span v-if="kindOfValue" class="hint">{{ kindOfValue }}</span>
      </label>
    </form>
    <Alert v-if="'fault' in read && read.fault" type="error" :message="read.fault" />
    <template v-if="plan">
      <p role="status">
        <b>{{ count(plan.writes.length, 'document changes', 'documents change') }}</b><template
          v-if="plan.unchanged > 0"
          >, {{ plan.unchanged.toLocaleString() }} stay as they are</template
        ><template v-if="plan.skipped.length > 0"
          >, {{ plan.skipped.length.toLocaleString() }} cannot be edited like this ({{ plan.skipped[0]!.id }}:
          {{ plan.skipped[0]!.reason }})</template
        >.
      </p>
      <div v-if="plan.writes.length > 0" class="preview" tabindex="0" role="region" aria-label="What will change">
        <table class="plain pinned">
          <thead>
            <tr>
              <th scope="col">id</th>
              <th scope="col">field</th>
              <th scope="col">before</th>
              <th scope="col">after</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="write in plan.writes.slice(0, PREVIEWED)" :key="write.id">
              <tr v-for="(change, index) in write.changes" :key="change.name">
                <td class="mono">{{ index === 0 ? write.id : '' }}</td>
                <td class="mono">{{ change.name }}</td>
                <td class="mono">
                  <del>{{ change.before === undefined ? '–' : formatCell(change.before) }}</del>
                </td>
                <td class="mono">
                  <ins>{{ change.after === undefined ? '–' : formatCell(change.after) }}</ins>
                </td>
              </tr>
            </template>
          </tbody>
        </table>
      </div>
      <p v-if="plan.writes.length > PREVIEWED" class="muted">The first {{ PREVIEWED }} are shown.</p>
      <Alert
        v-if="plan.writes.length > MOST_UNDONE"
        type="warning"
        :message="`More than ${MOST_UNDONE.toLocaleString()} documents change at once: this cannot be undone.`"
      />
    </template>
    <Progress v-if="state === 'running'" :percent="Math.floor((100 * tried) / Math.max(1, plan?.writes.length ?? 1))" />
    <template #footer>
      <div class="actions">
        <span class="muted">Only the changed fields are written, and only if no other user has changed them.</span>
        <Button @click="close">{{ state === 'running' ? 'Stop' : 'Cancel' }}</Button>
        <Button
          type="primary"
          :loading="state === 'running'"
          :disabled="!plan || plan.writes.length === 0"
          @click="apply"
          >Change {{ count(plan?.writes.length ?? 0) }}</Button
        >
      </div>
    </template>
  </Drawer>
</template>

<style scoped>
.kinds {
  flex: none;
  max-width: 100%;
  overflow-x: auto;
}
.scope {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
}
.scope label {
  display: inline-flex;
  gap: 6px;
  align-items: center;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(180px, 1fr));
  gap: 10px;
}
.fields label {
  position: relative;
  color: var(--ink-3);
}
.case {
  align-self: end;
}
.hint {
  position: absolute;
  top: 0;
  right: 0;
  font-size: 12px;
}
p {
  margin: 0;
}
.preview {
  flex: 1;
  min-height: 120px;
  overflow: auto;
  border: 1px solid var(--line);
  border-radius: 6px;
}
.preview td {
  max-width: 220px;
  overflow: hidden;
  text-overflow: ellipsis;
}
del {
  background: var(--bad-soft);
  text-decoration: none;
}
ins {
  background: var(--live-soft);
  text-decoration: none;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  justify-content: flex-end;
}
.actions span {
  flex: 1 1 240px;
  font-size: 12px;
}
</style>
