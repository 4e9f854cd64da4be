<script setup lang="ts">
import { isCollectionName, isDocumentId, keepEnd } from '@uproar/core';
import type { JsonObject, Store } from '@uproar/client';
import { Alert, Button, Drawer, Input, Progress } from 'ant-design-vue';
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, triggerRef } from 'vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { commitEach } from '../actions/commit-each';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { formatCell } from '../table/fields';
import { saveLines } from '../actions/export-shown';
import { findIdField, MAX_FILE_BYTES, readRows, type Reading, type Row } from './import-rows';
import { SEPARATORS, type Separator } from './read-csv';
import { findMappingFault, mapRow, proposeMapping, type ColumnTarget } from './column-mapping';
import ColumnMapping from './ColumnMapping.vue';
import { findDeepFields } from '../result/field-choices';

const props = defineProps<{ file: File; collection: string }>();
const emit = defineEmits<{ close: []; done: [collection: string] }>();
const store = useStore();
const notices = useNotices();

const PREVIEWED = 8;
/** With more columns, they keep their names. */
const MOST_COLUMNS = 100;
const GENERATED = '';
const SEPARATOR_NAMES: Record<Separator, string> = { ',': 'comma', ';': 'semicolon', '\t': 'tab', '|': 'vertical bar' };
const reading = shallowRef<Reading>();
/** What the columns become; undefined for files of documents with too many different fields to list. */
const mapping = shallowRef<ColumnTarget[]>();
const mappingFault = computed(() => (mapping.value ? findMappingFault(mapping.value) : ''));
/** The fields that the collection has. */
const known = shallowRef<string[]>([]);
const rows = computed(() => {
  const read = reading.value?.rows;
  const map = mapping.value;
  return map && mappingFault.value === '' ? read?.map((row) => mapRow(row, map)) : read;
});
const failure = ref('');
const collection = ref(props.collection);
const idField = ref(GENERATED);
const existing = ref<'keep' | 'replace'>('keep');
const written = ref(0);
/** How many of those written existed, and were left as they are. */
const kept = ref(0);
const refused = shallowRef<{ row: Row; reason: string }[]>([]);
/** Rows that were not tried yet when it stopped, and why it did. */
const left = shallowRef<readonly Row[]>([]);
const stopReason = ref('');
const state = ref<'ready' | 'running' | 'stopped' | 'done'>('ready');
let abort = new AbortController();
let content = '';

onMounted(async () => {
  try {
    if (props.file.size > MAX_FILE_BYTES) {
      throw new Error(
        `This file is large: use the command line instead: uproar import ${collection.value || 'COLLECTION'} ${props.file.name}`,
      );
    }
    content = await props.file.text();
    if (collection.value !== '') known.value = await readKnown().catch(() => []);
    read();
    if (collection.value === '') collection.value = nameFrom(props.file.name);
  } catch (error) {
    failure.value = describeFailure(error);
  }
});

function read(separator?: Separator): void {
  try {
    reading.value = readRows(props.file.name, content, separator);
    const columns = findColumns(reading.value.rows);
    mapping.value = columns.length <= MOST_COLUMNS ? proposeMapping(columns, known.value) : undefined;
    idField.value = findIdField(rows.value!) ?? GENERATED;
    failure.value = '';
  } catch (error) {
    failure.value = describeFailure(error);
  }
}

/** The fields of a few documents of the collection. */
async function readKnown(): Promise<string[]> {
  const { documents } = await store.collection(collection.value).list({ limit: 50 });
  return findDeepFields(documents).map(({ name }) => name);
}

/** The columns of a file; of documents, the members of their data. */
function findColumns(all: readonly Row[]): string[] {
  const [first] = all;
  if (first?.cells) return [...first.cells.keys()];
  return [...new Set(all.slice(0, 500).flatMap(({ data }) => Object.keys(data)))];
}

function nameFrom(file: string): string {
  const name = file
    .replace(/\.[^.]*$/, '')
    .toLowerCase()
    .replace(/[^a-z0-9-]+/g, '-');
  return isCollectionName(name) ? name : '';
}

const good = computed(() => (rows.value ?? []).filter(({ fault }) => fault === undefined));
const faulty = computed(() => (rows.value ?? []).filter(({ fault }) => fault !== undefined));
const names = computed(() => [...new Set(good.value.slice(0, 200).flatMap(({ data }) => Object.keys(data)))]);
const idFault = computed(() => {
  if (idField.value === GENERATED) return '';
  const bad = good.value.find(({ data }) => !isDocumentId(String(data[idField.value] ?? '')));
  return bad ? `${bad.place}: ${JSON.stringify(bad.data[idField.value] ?? null)} cannot be an id.` : '';
});
const ready = computed(
  () => isCollectionName(collection.value) && !idFault.value && !mappingFault.value && good.value.length > 0,
);

/** The id of a row and its data, in which the id is not repeated. */
function split(data: JsonObject): { id?: string; data: JsonObject } {
  if (idField.value === GENERATED) return { data };
  const { [idField.value]: id, ...rest } = data;
  return { id: String(id), data: rest };
}

async function run(): Promise<void> {
  const items = state.value === 'ready' ? good.value : left.value;
  abort = new AbortController();
  state.value = 'running';
  const outcome = await commitEach(store, items, (row) => writeFor(row), {
    signal: abort.signal,
    onWritten: (batch, existed) => {
      written.value += batch.length - existed;
      kept.value += existed;
    },
    onRefused: (row, reason) => {
      refused.value.push({ row, reason });
      triggerRef(refused);
    },
  });
  left.value = outcome.left;
  stopReason.value = outcome.failure;
  state.value = outcome.left.length > 0 ? 'stopped' : 'done';
  if (ended && outcome.left.length > 0)
    notices.info({ message: `Import of ${props.file.name}: stopped`, description: summary.value, duration: 0 });
}

/** What became of the rows, in words. */
const summary = computed(() => {
  const count = (number: number, what: string) => (number > 0 ? [`${number.toLocaleString()} ${what}`] : []);
  return [
    `${written.value.toLocaleString()} written`,
    ...count(kept.value, 'existed and were kept'),
    ...count(refused.value.length, 'refused'),
    ...(state.value === 'stopped' ? count(left.value.length, 'not written') : []),
  ].join(', ');
});
const refusedLines = computed(() => {
  const lines = refused.value.slice(0, 10).map(({ row, reason }) => `${row.place}: ${reason}`);
  const more = refused.value.length - lines.length;
  return [...lines, ...(more > 0 ? [`and ${more.toLocaleString()} more`] : [])].join('\n');
});
const tried = computed(() => written.value + kept.value + refused.value.length);

function saveRows(which: 'refused' | 'left'): void {
  const chosen = which === 'left' ? left.value : refused.value.map(({ row }) => row);
  saveLines(
    `${collection.value}-${which}`,
    chosen.map(({ data }) => data),
  );
}

type Write = Parameters<Store['commit']>[0]['writes'][number];
function writeFor(row: Row): Write {
  const { id, data } = split(row.data);
  const end = keepEnd(row);
  if (id === undefined) return { create: collection.value, data, ...end };
  if (existing.value === 'replace') return { put: `${collection.value}/${id}`, data, ...end };
  return { create: collection.value, id, keepExisting: true, data, ...end };
}

/** Closes the drawer. During an import it only stops the import and shows the result. */
function close(): void {
  if (state.value === 'running') abort.abort();
  else emit('close');
}

let ended = false;
const ask = (event: BeforeUnloadEvent) => {
  if (state.value === 'running') event.preventDefault();
};
addEventListener('beforeunload', ask);
onBeforeUnmount(() => {
  ended = true;
  abort.abort();
  removeEventListener('beforeunload', ask);
});
</script>

<template>
  <Drawer
    open
    :title="`Import ${file.name}`"
    :width="'min(680px, 100vw)'"
    :body-style="{ padding: '16px', display: 'flex', flexDirection: 'column', gap: '12px' }"
    @close="close"
  >
    <Alert v-if="failure" type="error" show-icon :message="failure" />
    <template v-else-if="rows">
      <div class="fields">
        <div>
          <label for="import-collection">Into the collection</label>
          <Input
            id="import-collection"
            v-model:value="collection"
            :status="isCollectionName(collection) ? '' : 'error'"
            :disabled="state !== 'ready'"
          />
        </div>
        <div>
          <label for="import-id">Ids</label>
          <ChoiceBox
            id="import-id"
            v-model:value="idField"
            class="wide"
            :disabled="state !== 'ready'"
            :options="[
              { value: GENERATED, label: 'generated, in order' },
              ...names.map((value) => ({ value, label: `from the field “${value}”` })),
            ]"
          />
        </div>
        <div v-if="idField !== GENERATED">
          <label for="import-existing">Documents that exist</label>
          <ChoiceBox
            id="import-existing"
            v-model:value="existing"
            class="wide"
            :disabled="state !== 'ready'"
            :options="[
              { value: 'keep', label: 'are kept' },
              { value: 'replace', label: 'are replaced' },
            ]"
          />
        </div>
      </div>
      <div v-if="reading?.separator" class="separator">
        <label for="import-separator">Values are separated by</label>
        <ChoiceBox
          id="import-separator"
          :value="reading.separator"
          small
          :disabled="state !== 'ready'"
          :options="SEPARATORS.map((value) => ({ value, label: SEPARATOR_NAMES[value] }))"
          @change="(value) => read(value)"
        />
      </div>
      <Alert v-for="note in reading?.notes" :key="note" type="info" :message="note" />
      <ColumnMapping
        v-if="mapping && reading"
        :mapping="mapping"
        :rows="reading.rows.slice(0, 200)"
        :known="known"
        :disabled="state !== 'ready'"
        @change="(changed) => (mapping = changed)"
      />
      <Alert v-if="mappingFault" type="error" :message="mappingFault" />
      <Alert v-if="idFault" type="error" :message="idFault" />
      <Alert
        v-if="faulty.length > 0"
        type="warning"
        show-icon
        :message="`${faulty.length.toLocaleString()} of ${rows.length.toLocaleString()} are invalid and will be skipped.`"
        :description="
          faulty
            .slice(0, 5)
            .map(({ place, fault }) => `${place}: ${fault}`)
            .concat(faulty.length > 5 ? [`and ${(faulty.length - 5).toLocaleString()} more`] : [])
            .join('\n')
        "
        class="lines"
      />
      <div class="table" tabindex="0" role="region" aria-label="The first rows">
        <table>
          <thead>
            <tr>
              <th v-for="name in names" :key="name" scope="col">{{ name }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="row in good.slice(0, PREVIEWED)" :key="row.place">
              <td v-for="name in names" :key="name">{{ formatCell(row.data[name]) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p class="muted">
        {{ good.length.toLocaleString() }} documents{{
          good.length > PREVIEWED ? `, the first ${PREVIEWED} above` : ''
        }}.
      </p>
      <template v-if="state !== 'ready'">
        <Progress
          :percent="Math.floor((100 * tried) / Math.max(1, good.length))"
          :status="state === 'stopped' ? 'exception' : undefined"
        />
        <p role="status">
          <b v-if="state === 'stopped'">Stopped: </b>{{ summary
          }}<template v-if="stopReason">. {{ stopReason }}</template>
        </p>
        <Alert
          v-if="refused.length > 0"
          type="error"
          class="lines"
          message="Refused rows"
          :description="refusedLines"
        />
        <div class="rest">
          <Button v-if="refused.length > 0 && state !== 'running'" size="small" @click="saveRows('refused')"
            >Save refused rows</Button
          >
          <Button v-if="state === 'stopped'" size="small" @click="saveRows('left')">Save rows not written</Button>
        </div>
      </template>
    </template>
    <p v-else class="muted">Reading…</p>
    <template #footer>
      <div class="actions">
        <Button @click="close">{{ state === 'ready' ? 'Cancel' : state === 'running' ? 'Stop' : 'Close' }}</Button>
        <Button v-if="state === 'stopped'" type="primary" @click="run"
          >Continue with {{ left.length.toLocaleString() }}</Button
        >
        <Button v-else-if="state === 'done'" type="primary" @click="emit('done', collection)">Show them</Button>
        <Button v-else type="primary" :loading="state === 'running'" :disabled="!ready" @click="run">
          Write {{ good.length.toLocaleString() }} documents
        </Button>
      </div>
    </template>
  </Drawer>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(170px, 1fr));
  gap: 12px;
}
label {
  display: block;
  margin-bottom: 2px;
  font-weight: 600;
}
.wide {
  width: 100%;
}
.lines {
  white-space: pre-line;
}
.table {
  overflow: auto;
  border: 1px solid var(--line);
  border-radius: 5px;
}
table {
  border-collapse: collapse;
  font-family: var(--mono);
  font-size: 12px;
  white-space: nowrap;
}
th,
td {
  padding: 3px 10px;
  max-width: 220px;
  overflow: hidden;
  text-align: left;
  text-overflow: ellipsis;
}
td {
  border-top: 1px solid var(--line);
}
p {
  margin: 0;
}
.separator,
.rest {
  display: flex;
  gap: 8px;
  align-items: center;
}
.actions {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
}
</style>
