<script setup lang="ts">
import { isProblem, type Document, type JsonObject } from '@uproar/client';
import { guardedPatch, mergeEdits } from '@uproar/core';
import { useWatch } from '@uproar/vue';
import { Alert, Button, Drawer, Popconfirm, Segmented, Spin } from 'ant-design-vue';
import { computed, defineAsyncComponent, onBeforeUnmount, onMounted, provide, ref } from 'vue';
import { readData } from '../shared/check-data';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { deleteWithUndo } from '../actions/undo';
import { copiesOfDocument } from '../queries/copies';
import CopyAs from '../queries/CopyAs.vue';
import ConflictTable from './ConflictTable.vue';
import DocumentEnd from './DocumentEnd.vue';
import { FormInputsKey } from './form-inputs';
import { useDocumentEdit } from './use-document-edit';
import { useViewers } from './use-viewers';

const HistoryPanel = defineAsyncComponent(() => import('./HistoryPanel.vue'));
const CodeEditor = defineAsyncComponent(() => import('../components/CodeEditor.vue'));
const FormFields = defineAsyncComponent(() => import('./FormFields.vue'));
const FilePreview = defineAsyncComponent(() => import('./FilePreview.vue'));
const ReadersPanel = defineAsyncComponent(() => import('./ReadersPanel.vue'));
const props = defineProps<{ collection: string; id: string }>();
const emit = defineEmits<{ close: []; duplicate: [document: Document] }>();
const store = useStore();
const notices = useNotices();

const view = useWatch(() => store.collection(props.collection).watchOne(props.id));
const now = computed<Document | undefined>(() => view.value?.byId.get(props.id));
const edit = useDocumentEdit(`${props.collection}/${props.id}`, now);
const { base, text, mode, dirty, restored, checked, overtaken, conflicting, takeOver } = edit;
provide(FormInputsKey, edit.inputs);
const viewers = useViewers(() => `${props.collection}/${props.id}`);
const copies = computed(() => copiesOfDocument(props.collection, props.id, location.origin));
const failure = ref('');
const busy = ref(false);
const tab = ref<'Data' | 'History' | 'Readers'>('Data');
/** What the form shows: also while one of its inputs is no value yet. */
const formData = computed(() => {
  const read = readData(text.value);
  return 'data' in read ? read.data : undefined;
});
const sizeBytes = computed(() => new TextEncoder().encode(JSON.stringify(now.value?.data ?? {})).length);

/** Escape closes it from anywhere on the page, unless another element uses that key. */
function onKey(event: KeyboardEvent): void {
  const elsewhere = (event.target as HTMLElement | null)?.closest(
    'input, textarea, select, [contenteditable], .ant-modal, .ant-drawer',
  );
  if (event.key === 'Escape' && !event.defaultPrevented && !elsewhere) emit('close');
}
onMounted(() => addEventListener('keydown', onKey));
onBeforeUnmount(() => removeEventListener('keydown', onKey));

/** Continues with data that was merged with the present document. */
function settle(data: JsonObject): void {
  failure.value = '';
  if (now.value) edit.settle(now.value, data);
}

/** Discards the edit: shows the document in the store, or its last state if it was deleted. */
function discard(): void {
  failure.value = '';
  takeOver(now.value ?? base.value!);
}

/** Sends only the edited fields; changes of others to other fields are kept. */
async function save(): Promise<void> {
  if (!dirty.value || !base.value || conflicting.value || 'fault' in checked.value) return;
  busy.value = true;
  failure.value = '';
  const documents = store.collection(props.collection);
  const { data } = checked.value;
  const sent = text.value;
  try {
    // Changes of others to other fields become the new base of the edit.
    const from = now.value ?? base.value;
    const ops = guardedPatch(from.data, mergeEdits(base.value.data, data, from.data).data);
    if (ops.length === 0) takeOver(now.value ?? base.value);
    else {
      const version = now.value
        ? await documents.patch(props.id, ops)
        : await documents.put(props.id, data, { ifVersion: 0 });
      const saved = view.value?.byId.get(props.id);
      if (saved) edit.savedAs(saved, sent);
      notices.success({ message: `Saved ${props.id}`, description: `Version ${version}`, duration: 2 });
    }
  } catch (error) {
    failure.value = isProblem(error, 'test-failed')
      ? `Another user changed ${error.problem.pointer ?? 'the same field'} at the same moment. Check the new value, and save again.`
      : describeFailure(error);
  }
  busy.value = false;
}

async function remove(): Promise<void> {
  if (!now.value) return;
  const kept = await deleteWithUndo(store, notices, props.collection, [now.value]);
  if (kept.length === 0) emit('close');
}
</script>

<template>
  <Drawer
    open
    :width="'min(760px, 100vw)'"
    :title="`${collection}/${id}`"
    :mask="false"
    :keyboard="true"
    :body-style="{ padding: '16px', display: 'flex', flexDirection: 'column', gap: '12px' }"
    @close="emit('close')"
  >
    <template #extra>
      <Segmented v-model:value="tab" :options="['Data', 'History', 'Readers']" class="tabs" aria-label="View" />
      <span class="tabs"><CopyAs :copies="copies" /></span>
      <Button class="tabs" :disabled="!now" @click="emit('duplicate', now!)">Duplicate</Button>
      <Popconfirm
        :title="`Delete ${id}?`"
        description="You can undo this."
        ok-text="Delete"
        :ok-button-props="{ danger: true }"
        placement="bottomRight"
        @confirm="remove"
      >
        <Button danger :disabled="!now">Delete</Button>
      </Popconfirm>
    </template>

    <p v-if="viewers.length > 0" class="viewers" role="status">
      <span class="dot" aria-hidden="true" />Also looking at this: <b>{{ viewers.join(', ') }}</b>
    </p>
    <Spin v-if="!view || view.state === 'loading'" />
    <Alert v-else-if="view.error" type="error" :message="view.error.detail" />
    <ReadersPanel v-else-if="tab === 'Readers'" :id="id" :collection="collection" />
    <HistoryPanel v-else-if="tab === 'History'" :id="id" :collection="collection" :now="now" />
    <template v-else>
      <Alert
        v-if="!now"
        type="warning"
        show-icon
        message="This document does not exist."
        :description="
          base
            ? 'It was deleted while you had it open. Saving creates it again.'
            : 'It may have been deleted. If it is created, it appears here.'
        "
      />
      <ConflictTable
        v-else-if="overtaken && base && 'data' in checked"
        :base="base"
        :mine="checked.data"
        :theirs="now"
        @settle="settle"
      />
      <Alert v-if="failure" type="error" show-icon :message="failure" />
      <Alert v-if="restored && dirty" type="info" show-icon message="These are unsaved changes from an earlier visit.">
        <template #action><Button size="small" @click="discard">Discard changes</Button></template>
      </Alert>
      <FilePreview v-if="now && collection === 'files'" :document="now" />
      <div v-if="base" class="columns">
        <div class="data">
          <Segmented v-model:value="mode" :options="['JSON', 'Form']" size="small" class="mode" aria-label="Editor" />
          <div v-if="mode === 'Form'" class="form">
            <FormFields
              v-if="formData"
              :data="formData"
              :path="[]"
              @change="(data: JsonObject) => (text = JSON.stringify(data, null, 2))"
            />
            <p v-else class="muted">Fix the JSON first.</p>
          </div>
          <CodeEditor
            v-else
            v-model="text"
            language="json"
            label="Data of the document as JSON"
            class="editor"
            @save="save"
          />
          <p class="fault" role="status">
            <template v-if="'fault' in checked">{{ checked.fault }}</template>
          </p>
        </div>
        <dl>
          <dt>id</dt>
          <dd class="mono">{{ id }}</dd>
          <dt>version</dt>
          <dd class="mono">{{ now?.version ?? '–' }}</dd>
          <dt>created</dt>
          <dd>{{ now ? new Date(now.created).toLocaleString() : '–' }}</dd>
          <dt>updated</dt>
          <dd>{{ now ? new Date(now.updated).toLocaleString() : '–' }}</dd>
          <dt>expires</dt>
          <dd><DocumentEnd :collection="collection" :document="now" /></dd>
          <dt>size of the data</dt>
          <dd>{{ sizeBytes.toLocaleString() }} bytes</dd>
        </dl>
      </div>
    </template>

    <template v-if="tab === 'Data'" #footer>
      <div class="actions">
        <span class="muted">{{ dirty ? 'Unsaved changes' : base ? 'Up to date' : '' }}</span>
        <span>
          <Button :disabled="!dirty" @click="discard">Discard changes</Button>
          <Button
            type="primary"
            class="save"
            :loading="busy"
            :disabled="!dirty || 'fault' in checked || conflicting"
            title="Ctrl+S"
            @click="save"
          >
            Save
          </Button>
        </span>
      </div>
    </template>
  </Drawer>
</template>

<style scoped>
.viewers {
  margin: 0;
  color: var(--ink-2);
}
.dot {
  display: inline-block;
  width: 8px;
  height: 8px;
  margin-right: 8px;
  border-radius: 50%;
  background: var(--live);
}
.columns {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: minmax(0, 1fr) 170px;
  gap: 16px;
}
.data {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.mode {
  align-self: flex-start;
  margin-bottom: 8px;
}
.form {
  flex: 1;
  min-height: 160px;
  overflow: auto;
}
.editor {
  flex: 1;
  min-height: 160px;
}
.fault {
  min-height: 20px;
  margin: 6px 0 0;
  color: var(--bad);
}
dl {
  margin: 0;
}
dt {
  color: var(--ink-3);
  font-size: 11.5px;
}
dd {
  margin: 0 0 10px;
  font-size: 12.5px;
  overflow-wrap: anywhere;
}
.actions {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.save {
  margin-left: 8px;
}
.tabs {
  margin-right: 12px;
}
@media (max-width: 720px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
