<script setup lang="ts">
import type { Document } from '@uproar/client';
import { Button, Popconfirm } from 'ant-design-vue';
import { useRouter } from 'vue-router';
import { useNotices } from '../shared/injection';
import { saveLines } from '../actions/export-shown';

const props = defineProps<{ collection: string; documents: readonly Document[] }>();
const emit = defineEmits<{ clear: []; remove: []; edit: []; duplicate: [document: Document] }>();
const notices = useNotices();
const router = useRouter();

function compare(): void {
  const [a, b] = props.documents.map(({ id }) => `${props.collection}/${id}`);
  void router.push({ name: 'compare', query: { a, b } });
}

async function copy(): Promise<void> {
  await navigator.clipboard.writeText(props.documents.map((document) => JSON.stringify(document)).join('\n'));
  notices.success({ message: 'Copied as NDJSON', duration: 2 });
}

function keep(): void {
  saveLines(props.collection, props.documents);
}
</script>

<template>
  <div class="picked" role="toolbar" aria-label="Selection">
    <b>{{ documents.length.toLocaleString() }} selected</b>
    <Popconfirm
      :title="`Delete ${documents.length.toLocaleString()} documents?`"
      description="You can undo this."
      ok-text="Delete"
      :ok-button-props="{ danger: true }"
      @confirm="emit('remove')"
    >
      <Button danger size="small">Delete</Button>
    </Popconfirm>
    <Button size="small" @click="emit('edit')">Edit field…</Button>
    <Button v-if="documents.length === 1" size="small" @click="emit('duplicate', documents[0]!)">Duplicate</Button>
    <Button v-if="documents.length === 2" size="small" @click="compare">Compare</Button>
    <Button size="small" @click="keep">Save as NDJSON</Button>
    <Button size="small" @click="copy">Copy</Button>
    <Button type="text" size="small" @click="emit('clear')">Clear selection</Button>
  </div>
</template>

<style scoped>
.picked {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  padding: 6px 16px;
  background: var(--accent-soft);
}
b {
  margin-right: 4px;
}
</style>
