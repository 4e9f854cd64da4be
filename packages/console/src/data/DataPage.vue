<script setup lang="ts">
import type { Document, View } from '@uproar/client';
import { groupDigits } from '@uproar/core';
import { useWatch } from '@uproar/vue';
import { Alert, Button, Dropdown, Menu, MenuItem } from 'ant-design-vue';
import {
  computed,
  defineAsyncComponent,
  onBeforeUnmount,
  onMounted,
  ref,
  shallowRef,
  useTemplateRef,
  watch,
  watchEffect,
} from 'vue';
import { useRoute, useRouter } from 'vue-router';
import HoldButton from '../components/HoldButton.vue';
import PageFrame from '../components/PageFrame.vue';
import StateTag from '../components/StateTag.vue';
import { vocabularyOf } from '../cql/vocabulary';
import { exportShown, FORMATS } from '../actions/export-shown';
import CreateDrawer from './CreateDrawer.vue';
import PickBar from './PickBar.vue';
import QueryBar from './QueryBar.vue';
import Uploads from './Uploads.vue';
import { watchTable } from '../shared/watch-table';
import { useEditNotices } from '../table/edit-notices';
import DocumentDrawer from '../document/DocumentDrawer.vue';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { usePausableView } from '../table/pausable-view';
import { useCellEdits } from '../table/cell-edits';
import UnsavedEdits from '../table/UnsavedEdits.vue';
import ResultView from '../result/ResultView.vue';
import ShowSwitch from '../result/ShowSwitch.vue';
import { addBox, type Box } from '../result/map/box';
import { momentIn, useMoment } from '../past/use-moment';
import { presentationIn, usePresentation } from '../result/presentation';
import type { Column, Columns } from '../table/layout';
import { sortBy } from '../table/sorting';
import { deleteWithUndo } from '../actions/undo';

const props = defineProps<{ collections: View | undefined }>();
const FirstSteps = defineAsyncComponent(() => import('../first-steps/FirstSteps.vue'));
const BulkDrawer = defineAsyncComponent(() => import('../bulk/BulkDrawer.vue'));
const PastResult = defineAsyncComponent(() => import('../past/PastResult.vue'));
const ImportDrawer = defineAsyncComponent(() => import('./ImportDrawer.vue'));
const store = useStore();
const notices = useNotices();
const route = useRoute();
const router = useRouter();
const creating = shallowRef<{ like?: Pick<Document, 'id' | 'data'> }>();
const importing = shallowRef<File>();
const dropping = ref(false);
/** Whether many documents are being edited. */
const bulk = ref(false);
const uploads = useTemplateRef<{ send(files: readonly File[]): Promise<void> }>('uploads');
const result = useTemplateRef<{ columns(): Columns | undefined }>('result');
const { presentation, present } = usePresentation();
const { at, showAt } = useMoment();
const form = computed(() => ({
  from: collection.value,
  ...(where.value === '' ? {} : { where: where.value }),
  ...(order.value === '' ? {} : { order: order.value }),
  limit: 'none' as const,
}));
const collectionNames = computed(() => (props.collections?.documents ?? []).map(({ id }) => id));

const collection = computed(() => String(route.params.collection ?? ''));
const id = computed(() => String(route.params.id ?? ''));
const where = computed(() => String(route.query.where ?? ''));
const order = computed(() => String(route.query.order ?? ''));
const edits = useCellEdits(store, collection, useEditNotices());

const view = useWatch(() => {
  if (collection.value === '') return undefined;
  return watchTable(store, collection.value, where.value, order.value);
});
const { frame, paused, waiting } = usePausableView(view);
const queryProblem = computed(() => (view.value?.error?.type === '/problems/bad-query' ? view.value.error : undefined));
const empty = computed(() => props.collections?.state === 'live' && props.collections.documents.length === 0);

// Selected rows stay selected by id; deleted ones are dropped.
const picked = ref<ReadonlySet<string>>(new Set());
const pickedDocuments = computed(() => (frame.value?.view.documents ?? []).filter(({ id }) => picked.value.has(id)));
watch([collection, where], () => (picked.value = new Set()));
watch(collection, () => (bulk.value = false));

function pick(ids: string[], on: boolean): void {
  const next = new Set(picked.value);
  for (const one of ids)
    if (on) next.add(one);
    else next.delete(one);
  picked.value = next;
}

/** Deletes the selected documents. Documents that could not be deleted stay selected. */
async function removePicked(): Promise<void> {
  const from = collection.value;
  const kept = await deleteWithUndo(store, notices, from, pickedDocuments.value);
  if (from === collection.value) picked.value = new Set(kept.map(({ id: one }) => one));
}

// Without a collection in the address the first one is shown.
watchEffect(() => {
  const first = props.collections?.documents[0];
  if (collection.value === '' && first) void router.replace({ name: 'data', params: { collection: first.id } });
});
watch(
  () => route.query.edit,
  (asked) => {
    if (asked !== 'many') return;
    bulk.value = true;
    const { edit: _, ...query } = route.query;
    void router.replace({ name: 'data', params: route.params, query });
  },
  { immediate: true },
);
watch(
  () => route.query.new,
  (asked) => {
    if (asked === undefined) return;
    void beginNew(String(asked));
    const { new: _, ...query } = route.query;
    void router.replace({ name: 'data', params: route.params, query });
  },
  { immediate: true },
);

/** Opens the drawer of a new document; with the id of another document, of one like that. */
async function beginNew(like: string): Promise<void> {
  if (like === '1') return void (creating.value = {});
  const document = await store
    .collection(collection.value)
    .get(like)
    .catch(() => undefined);
  creating.value = { like: document ?? { id: like, data: {} } };
}

function open(documentId?: string, name = collection.value): void {
  creating.value = undefined;
  const query = name === collection.value ? route.query : {};
  void router.push({ name: 'data', params: { collection: name, id: documentId ?? '' }, query });
}

function run(condition: string, terms: string): void {
  const query = {
    ...presentationIn(route.query),
    ...momentIn(route.query),
    ...(condition === '' ? {} : { where: condition }),
    ...(terms === '' ? {} : { order: terms }),
  };
  void router.push({ name: 'data', params: route.params, query });
}

function narrow(field: string, box: Box): void {
  run(addBox(where.value, field, box), order.value);
}

function sort(column: Column, add: boolean): void {
  run(where.value, sortBy(order.value, column, add));
}

async function exportAs(format: (typeof FORMATS)[number]['key']): Promise<void> {
  try {
    const query = { collection: collection.value, where: where.value, order: order.value };
    await exportShown(store, query, result.value?.columns(), format);
  } catch (error) {
    notices.error({ message: 'Not exported', description: describeFailure(error) });
  }
}

/** How the result is drawn, now or as it was, and what is done with it there. */
const drawn = computed(() => ({
  collection: collection.value,
  where: where.value,
  order: order.value,
  presentation: presentation.value,
  selected: id.value,
  picked: picked.value,
  collections: collectionNames.value,
  onOpen: open,
  onPick: pick,
  onSort: sort,
  onPresent: present,
  onNarrow: narrow,
  onPickOnly: (ids: string[]) => (picked.value = new Set(ids)),
}));

function drop(event: DragEvent): void {
  dropping.value = false;
  take([...(event.dataTransfer?.files ?? [])]);
}

/** The collection of files uploads dropped files; other collections import their rows. */
const takesFiles = computed(() => collection.value === 'files');
function take(files: readonly File[]): void {
  if (takesFiles.value) void uploads.value!.send(files);
  else if (files[0]) importing.value = files[0];
}

function choose(): void {
  const input = document.createElement('input');
  input.type = 'file';
  if (takesFiles.value) input.multiple = true;
  else input.accept = '.json,.ndjson,.jsonl,.csv,.tsv';
  input.addEventListener('change', () => take([...(input.files ?? [])]));
  input.click();
}

/** Rows that were copied from a spreadsheet are imported like a file. */
function paste(event: ClipboardEvent): void {
  const elsewhere = (event.target as HTMLElement | null)?.closest(
    'input, textarea, select, [contenteditable], .ant-modal, .ant-drawer',
  );
  const text = event.clipboardData?.getData('text/plain') ?? '';
  if (elsewhere || takesFiles.value || !/^[^\n]*\t[^\n]*\r?\n./.test(text)) return;
  event.preventDefault();
  importing.value = new File([text], 'pasted-rows.tsv', { type: 'text/tab-separated-values' });
}
onMounted(() => document.addEventListener('paste', paste));
onBeforeUnmount(() => document.removeEventListener('paste', paste));

function dragged({ dataTransfer }: DragEvent): void {
  if (dataTransfer?.types.includes('Files')) dropping.value = true;
}
</script>

<template>
  <PageFrame :title="collection || 'Data'" @dragenter="dragged" @dragover.prevent @drop.prevent="drop">
    <template #facts>
      <template v-if="view">
        <StateTag :state="view.state" :paused="paused" :past="at !== undefined" />
        <span v-if="at === undefined" class="muted count"
          >{{ groupDigits((frame?.view ?? view).documents.length) }} documents<span class="seq"
            >, seq {{ groupDigits((frame?.view ?? view).seq) }}</span
          ></span
        >
      </template>
    </template>
    <template #tools>
      <ShowSwitch v-if="collection !== ''" :show="presentation.show" @change="(show) => present({ show })" />
      <span id="table-tools" />
      <Button
        v-if="view && at === undefined"
        size="small"
        title="See this result as it was, change by change"
        @click="showAt('now')"
        >Rewind</Button
      >
      <template v-if="view && view.documents.length > 0">
        <HoldButton v-if="at === undefined" v-model:paused="paused" :waiting="waiting" />
        <Dropdown :trigger="['click']">
          <Button size="small">Export</Button>
          <template #overlay>
            <Menu>
              <MenuItem v-for="format in FORMATS" :key="format.key" @click="exportAs(format.key)">{{
                format.label
              }}</MenuItem>
            </Menu>
          </template>
        </Dropdown>
      </template>
      <Button size="small" title="Or drop a file on the page, or paste rows of a spreadsheet" @click="choose">{{
        takesFiles ? 'Upload' : 'Import'
      }}</Button>
      <Button type="primary" size="small" @click="creating = {}">New document</Button>
    </template>
    <Alert
      v-if="view?.state === 'stale'"
      banner
      type="warning"
      message="The connection is broken. This is the last known state. It is updated when the connection is back."
    />
    <QueryBar
      v-if="collection !== '' && !empty"
      :key="collection"
      :collection="collection"
      :where="where"
      :order="order"
      :problem="queryProblem"
      :live="view?.state === 'live'"
      :vocabulary="() => vocabularyOf(view)"
      @run="run"
    />
    <Uploads ref="uploads" />
    <Alert v-if="view?.error && !queryProblem" banner type="error" :message="view.error.detail" />
    <PickBar
      v-if="pickedDocuments.length > 0 && at === undefined"
      :collection="collection"
      :documents="pickedDocuments"
      @clear="picked = new Set()"
      @remove="removePicked"
      @edit="bulk = true"
      @duplicate="(like) => (creating = { like })"
    />
    <UnsavedEdits :edits="edits" />
    <div v-if="empty && collection === ''" class="first"><FirstSteps :collections="collections" /></div>
    <div
      v-if="view?.state === 'live' && view.documents.length === 0 && collection !== '' && at === undefined"
      class="nothing"
    >
      <template v-if="where !== ''">
        <b>No document matches the condition</b>
        <span class="muted">Documents appear here as soon as they match.</span>
      </template>
      <template v-else>
        <b>No documents in “{{ collection }}”</b>
        <span class="muted">Documents appear here as soon as they are written.</span>
      </template>
    </div>
    <PastResult
      v-if="at !== undefined && collection !== ''"
      v-slot="{ frame: then }"
      :key="collection"
      :form="form"
      :start-at="at === 'now' ? undefined : at"
      :picked="picked"
      @moment="showAt"
      @close="showAt(undefined)"
      @open="open"
    >
      <ResultView v-bind="drawn" :frame="then" :editable="false" />
    </PastResult>
    <!-- An open editor keeps the table, also when no document is left in it. -->
    <ResultView
      v-else-if="frame && frame.view.state !== 'loading' && (frame.view.documents.length > 0 || edits.open.value)"
      ref="result"
      :key="collection"
      v-bind="drawn"
      :frame="frame"
      :edits="edits"
      editable
    />
    <div v-else-if="view?.state === 'loading'" class="nothing muted">Loading…</div>
    <DocumentDrawer
      v-if="id !== ''"
      :id="id"
      :key="`${collection}/${id}`"
      :collection="collection"
      @close="open()"
      @duplicate="(like) => (creating = { like })"
    />
    <CreateDrawer
      v-if="creating"
      :key="`${collection} ${creating.like?.id ?? ''}`"
      :collection="collection"
      :like="creating.like"
      @close="creating = undefined"
      @created="(name, documentId) => open(documentId, name)"
    />
    <BulkDrawer
      v-if="bulk && view"
      :collection="collection"
      :picked="pickedDocuments"
      :matching="view.documents"
      @close="bulk = false"
    />
    <ImportDrawer
      v-if="importing"
      :file="importing"
      :collection="collection"
      @close="importing = undefined"
      @done="
        (name) => {
          importing = undefined;
          open(undefined, name);
        }
      "
    />
    <div v-if="dropping" class="drop" @dragleave="dropping = false">
      <template v-if="takesFiles">Drop files to upload them</template>
      <template v-else
        >Drop a JSON, NDJSON or CSV file to import its documents into “{{ collection || 'a collection' }}”</template
      >
    </div>
  </PageFrame>
</template>

<style scoped>
.first {
  overflow-y: auto;
}
.count {
  white-space: nowrap;
  font-variant-numeric: tabular-nums;
}
.drop {
  position: absolute;
  inset: 8px;
  z-index: 10;
  display: grid;
  place-items: center;
  border: 2px dashed var(--accent);
  border-radius: 8px;
  background: color-mix(in srgb, var(--paper) 88%, transparent);
  font-size: 15px;
}
@media (max-width: 1400px) {
  .seq {
    display: none;
  }
}
</style>
