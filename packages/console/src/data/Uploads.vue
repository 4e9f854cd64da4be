<script setup lang="ts">
import { formatBytes } from '@uproar/core';
import { Alert, Progress } from 'ant-design-vue';
import { ref } from 'vue';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';

/** Uploads in progress. */
interface Upload {
  name: string;
  sizeBytes: number;
  sentBytes: number;
  failure: string;
  abort: AbortController;
}

const store = useStore();
const notices = useNotices();
const uploads = ref<Upload[]>([]);

/** Sends files; each shows how far it is until it has arrived. */
async function send(files: readonly File[]): Promise<void> {
  const done = await Promise.all(files.map(sendOne));
  const count = done.filter(Boolean).length;
  if (count > 0)
    notices.success({ message: count === 1 ? 'The file is uploaded' : `${count} files are uploaded`, duration: 3 });
}

async function sendOne(file: File): Promise<boolean> {
  const upload = ref<Upload>({
    name: file.name,
    sizeBytes: file.size,
    sentBytes: 0,
    failure: '',
    abort: new AbortController(),
  }).value;
  uploads.value.push(upload);
  try {
    await store.files.upload(file, {
      signal: upload.abort.signal,
      onProgress: (sentBytes) => (upload.sentBytes = sentBytes),
    });
    remove(upload);
    return true;
  } catch (error) {
    if (upload.abort.signal.aborted) remove(upload);
    else upload.failure = describeFailure(error);
    return false;
  }
}

function remove(upload: Upload): void {
  uploads.value = uploads.value.filter((other) => other !== upload);
}
defineExpose({ send });
</script>

<template>
  <ul v-if="uploads.length > 0" class="uploads" aria-label="Uploads">
    <li v-for="upload in uploads" :key="upload.name">
      <Alert
        v-if="upload.failure"
        type="error"
        closable
        :message="`${upload.name}: ${upload.failure}`"
        @close="remove(upload)"
      />
      <template v-else>
        <span class="name">{{ upload.name }}</span>
        <span class="muted">{{ formatBytes(upload.sentBytes) }} of {{ formatBytes(upload.sizeBytes) }}</span>
        <Progress
          class="bar"
          size="small"
          :percent="upload.sizeBytes === 0 ? 100 : Math.round((100 * upload.sentBytes) / upload.sizeBytes)"
          :aria-label="`Upload of ${upload.name}`"
        />
        <button type="button" @click="upload.abort.abort()">Cancel</button>
      </template>
    </li>
  </ul>
</template>

<style scoped>
.uploads {
  margin: 0;
  padding: 6px 16px;
  border-bottom: 1px solid var(--line);
  list-style: none;
}
li {
  display: flex;
  gap: 12px;
  align-items: center;
}
.name {
  overflow: hidden;
  max-width: 40%;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.bar {
  flex: 1;
  margin: 0;
}
button {
  border: 0;
  background: none;
  color: var(--accent);
  cursor: pointer;
}
</style>
