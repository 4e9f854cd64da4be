<script setup lang="ts">
import { isCollectionName, isDocumentId } from '@uproar/core';
import { ProblemError, type JsonObject, type Store } from '@uproar/client';
import { Alert, Button, Drawer, Input, Progress } from 'ant-design-vue';
import { computed, onMounted, ref, shallowRef } from 'vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { useStore } from '../injection';
import { formatCell } from '../table/fields';
import { findIdField, MAX_FILE_BYTES, readRows, type Row } from './import-rows';

const props = defineProps<{ file: File; collection: string }>();
const emit = defineEmits<{ close: []; done: [collection: string] }>();
const store = useStore();

const BATCH = 500;
const PREVIEWED = 8;
const GENERATED = '';
const rows = shallowRef<Row[]>();
const failure = ref('');
const collection = ref(props.collection);
const idField = ref(GENERATED);
const existing = ref<'keep' | 'replace'>('keep');
const written = ref(0);
const refused = ref<string[]>([]);
const state = ref<'ready' | 'running' | 'done'>('ready');
let stopped = false;

onMounted(async () => {
  try {
    if (props.file.size > MAX_FILE_BYTES) {
      throw new Error(
        `This file is large: use the command line instead: uproar import ${collection.value || 'COLLECTION'} ${props.file.name}`,
      );
    }
    rows.value = readRows(props.file.name, await props.file.text());
    idField.value = findIdField(rows.value) ?? GENERATED;
    if (collection.value === '') collection.value = nameFrom(props.file.name);
  } catch (error) {
    failure.value = error instanceof Error ? error.message : String(error);
  }
});

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
const ready = computed(() => isCollectionName(collection.value) && !idFault.value && good.value.length > 0);

/** The id of a row and its data, in which the id is not repeated. */
function split(data: JsonObject): { id?: string; data: JsonObject } {
  if (idField.value === GENERATED) return { data };
  const { [idField.value]: id, ...rest } = data;
  return { id: String(id), data: rest };
}

async function run(): Promise<void> {
  state.value = 'running';
  for (let at = 0; at < good.value.length && !stopped; at += BATCH) {
    await write(good.value.slice(at, at + BATCH));
  }
  state.value = 'done';
}

type Write = Parameters<Store['commit']>[0]['writes'][number];
function writeFor(row: JsonObject): Write {
  const { id, data } = split(row);
  if (id === undefined) return { create: collection.value, data };
  if (existing.value === 'replace') return { put: `${collection.value}/${id}`, data };
  return { create: collection.value, id, keepExisting: true, data };
}

/** Writes rows in one commit. One that is refused is taken out, so that the others are written. */
async function write(batch: Row[]): Promise<void> {
  const rest = [...batch];
  while (rest.length > 0 && !stopped) {
    try {
      await store.commit({ writes: rest.map(({ data }) => writeFor(data)) });
      written.value += rest.length;
      return;
    } catch (error) {
      const { detail, write: at = rest.length === 1 ? 0 : undefined } =
        error instanceof ProblemError ? error.problem : { detail: String(error) };
      if (typeof at !== 'number') {
        refused.value.push(`${rest[0]!.place} to ${rest.at(-1)!.place}: ${detail}`);
        return;
      }
      refused.value.push(`${rest[at]!.place}: ${detail}`);
      rest.splice(at, 1);
    }
  }
}

function close(): void {
  stopped = true;
  emit('close');
}
</script>

<template>
  <Drawer
    open
    :title="`Bring in ${file.name}`"
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
              { value: 'keep', label: 'stay as they are' },
              { value: 'replace', label: 'are replaced' },
            ]"
          />
        </div>
      </div>
      <Alert v-if="idFault" type="error" :message="idFault" />
      <Alert
        v-if="faulty.length > 0"
        type="warning"
        show-icon
        :message="`${faulty.length.toLocaleString()} of ${rows.length.toLocaleString()} cannot be taken and will be left out.`"
        :description="
          faulty
            .slice(0, 5)
            .map(({ place, fault }) => `${place}: ${fault}`)
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
        <Progress :percent="Math.floor((100 * written) / Math.max(1, good.length))" />
        <p role="status">
          {{ written.toLocaleString() }} written{{
            refused.length > 0 ? `, ${refused.length.toLocaleString()} refused` : ''
          }}
        </p>
        <Alert
          v-if="refused.length > 0"
          type="error"
          class="lines"
          message="What was refused"
          :description="refused.slice(0, 10).join('\n')"
        />
      </template>
    </template>
    <p v-else class="muted">Reading…</p>
    <template #footer>
      <div class="actions">
        <Button @click="close">{{ state === 'ready' ? 'Cancel' : state === 'running' ? 'Stop' : 'Close' }}</Button>
        <Button v-if="state === 'done'" type="primary" @click="emit('done', collection)">Look at them</Button>
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
.actions {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
}
</style>
