<script setup lang="ts">
import { isCollectionName, isDocumentId } from '@uproar/core';
import { ProblemError, type Document } from '@uproar/client';
import { Alert, Button, Drawer, Input } from 'ant-design-vue';
import { computed, defineAsyncComponent, onMounted, ref } from 'vue';
import { readData } from '../check-data';
import { blankLike } from './blank-like';
import { useStore } from '../injection';

const CodeEditor = defineAsyncComponent(() => import('../components/CodeEditor.vue'));
const props = defineProps<{
  collection: string;
  /** A document to begin with a copy of. */
  like?: Document | undefined;
}>();
const emit = defineEmits<{ close: []; created: [collection: string, id: string] }>();
const store = useStore();

const collection = ref(props.collection);
const id = ref('');
const EMPTY = '{\n  \n}';
const text = ref(props.like ? JSON.stringify(props.like.data, null, 2) : EMPTY);
const failure = ref('');
const busy = ref(false);

/** Offers the fields that most documents of the collection have, unless something has been typed by then. */
onMounted(async () => {
  if (props.like || props.collection === '') return;
  const listing = await store.call('query', { from: props.collection, limit: 50 }).catch(() => undefined);
  const blank = blankLike(listing?.documents ?? []);
  if (Object.keys(blank).length > 0 && text.value === EMPTY) text.value = JSON.stringify(blank, null, 2);
});

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
    if (id.value === '') emit('created', collection.value, await documents.create(data));
    else {
      await documents.put(id.value, data, { ifVersion: 0 });
      emit('created', collection.value, id.value);
    }
  } catch (error) {
    failure.value = error instanceof ProblemError ? error.problem.detail : String(error);
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
        <Input
          id="new-id"
          v-model:value="id"
          :status="idFault ? 'error' : ''"
          placeholder="generated, in order of creation"
        />
        <p class="fault">{{ idFault }}</p>
      </div>
    </div>
    <Alert v-if="failure" type="error" show-icon :message="failure" />
    <CodeEditor v-model="text" language="json" label="Data of the document as JSON" class="editor" @save="create" />
    <p class="fault" role="status">
      <template v-if="'fault' in checked">{{ checked.fault }}</template>
    </p>
    <template #footer>
      <div class="actions">
        <Button @click="emit('close')">Cancel</Button>
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
