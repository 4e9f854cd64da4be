<script setup lang="ts">
import { isCollectionName, isDocumentId } from '@uproar/core';
import type { Document } from '@uproar/client';
import { Alert, Button, Drawer, Input } from 'ant-design-vue';
import { computed, defineAsyncComponent, onMounted, ref, watch } from 'vue';
import { readData } from '../shared/check-data';
import { blankLike } from './blank-like';
import { describeFailure } from '../shared/failure';
import { useStore } from '../shared/injection';
import { dropDraft, keepDraft, readDraft } from '../unsaved/drafts';

const CodeEditor = defineAsyncComponent(() => import('../components/CodeEditor.vue'));
const props = defineProps<{
  collection: string;
  /** A document to begin with a copy of. */
  like?: Pick<Document, 'id' | 'data'> | undefined;
}>();
const emit = defineEmits<{ close: []; created: [collection: string, id: string] }>();
const store = useStore();

const EMPTY = '{\n  \n}';
/** Text that was typed but not created reappears when the drawer is opened again. */
const key = `new:${props.collection}${props.like ? ` like ${props.like.id}` : ''}`;
const kept = readDraft<{ collection: string; id: string; text: string }>(key);
const restored = ref(kept !== undefined);
/** The text that the drawer begins with. */
let initial = props.like ? JSON.stringify(props.like.data, null, 2) : EMPTY;
const collection = ref(kept?.collection ?? props.collection);
const id = ref(kept?.id ?? '');
const text = ref(kept?.text ?? initial);
const failure = ref('');
const busy = ref(false);
let created = false;

/** Offers the fields that most documents of the collection have, unless something has been typed by then. */
onMounted(async () => {
  if (props.like || props.collection === '') return;
  const listing = await store.call('query', { from: props.collection, limit: 50 }).catch(() => undefined);
  const blank = blankLike(listing?.documents ?? []);
  if (Object.keys(blank).length === 0) return;
  initial = JSON.stringify(blank, null, 2);
  if (text.value === EMPTY) text.value = initial;
});

watch([collection, id, text], keep, { flush: 'sync' });
function keep(): void {
  const same = collection.value === props.collection && id.value === '' && [EMPTY, initial].includes(text.value);
  if (same || created) return dropDraft(key);
  const value = { collection: collection.value, id: id.value, text: text.value };
  const path = `/data/${props.collection}?new=${encodeURIComponent(props.like?.id ?? '1')}`;
  keepDraft({ key, value, edit: { label: `New document of ${collection.value || '…'}`, path } });
}

function startOver(): void {
  [collection.value, id.value, text.value] = [props.collection, '', initial];
  restored.value = false;
}

/** Discards the text. */
function cancel(): void {
  dropDraft(key);
  emit('close');
}

const checked = computed(() => readData(text.value));
const collectionFault = computed(() =>
  collection.value === '' || isCollectionName(collection.value)
    ? ''
    : 'A lower-case letter, then up to 63 of a-z, 0-9 and "-".',
);
const idFault = computed(() =>
  id.value === '' || isDocumentId(id.value) ? '' : '1 to 128 of A-Z, a-z, 0-9, "-", ".", "_" and "~".',
);
const ready = computed(
  () => collection.value !== '' && !collectionFault.value && !idFault.value && 'data' in checked.value,
);

async function create(): Promise<void> {
  if (!ready.value || 'fault' in checked.value) return;
  busy.value = true;
  failure.value = '';
  const { data } = checked.value;
  const documents = store.collection(collection.value);
  try {
    const made = id.value === '' ? await documents.create(data) : id.value;
    if (id.value !== '') await documents.put(made, data, { ifVersion: 0 });
    created = true;
    dropDraft(key);
    emit('created', collection.value, made);
  } catch (error) {
    failure.value = describeFailure(error);
  }
  busy.value = false;
}
</script>

<template>
  <Drawer
    open
    :title="like ? `Like ${like.id}` : 'New document'"
    :width="'min(620px, 100vw)'"
    :body-style="{ padding: '16px', display: 'flex', flexDirection: 'column', gap: '12px' }"
    @close="emit('close')"
  >
    <div class="fields">
      <div>
        <label for="new-collection">Collection</label>
        <Input
          id="new-collection"
          v-model:value="collection"
          :status="collectionFault ? 'error' : ''"
          placeholder="notes"
        />
        <p class="fault">{{ collectionFault }}</p>
      </div>
      <div>
        <label for="new-id">Id</label>
        <Input id="new-id" v-model:value="id" :status="idFault ? 'error' : ''" placeholder="generated" />
        <p class="fault">{{ idFault }}</p>
      </div>
    </div>
    <Alert v-if="failure" type="error" show-icon :message="failure" />
    <Alert v-if="restored" type="info" show-icon message="This is an unsaved draft of a new document.">
      <template #action><Button size="small" @click="startOver">Start over</Button></template>
    </Alert>
    <CodeEditor
      v-model="text"
      language="json"
      label="Data of the document as JSON"
      class="editor"
      :readonly="busy"
      @save="create"
    />
    <p class="fault" role="status">
      <template v-if="'fault' in checked">{{ checked.fault }}</template>
    </p>
    <template #footer>
      <div class="actions">
        <Button @click="cancel">Cancel</Button>
        <Button type="primary" :loading="busy" :disabled="!ready" title="Ctrl+S" @click="create">Create</Button>
      </div>
    </template>
  </Drawer>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: 1fr 1.4fr;
  gap: 12px;
}
label {
  display: block;
  font-weight: 600;
}
.fault {
  min-height: 20px;
  margin: 0;
  color: var(--bad);
}
.editor {
  flex: 1;
  min-height: 200px;
}
.actions {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
}
</style>
