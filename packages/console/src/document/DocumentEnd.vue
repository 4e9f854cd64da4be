<script setup lang="ts">
import type { Document } from '@uproar/client';
import { Button, Popover } from 'ant-design-vue';
import { computed, ref } from 'vue';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';

const props = defineProps<{ collection: string; document: Document | undefined }>();
const store = useStore();
const notices = useNotices();

const open = ref(false);
const busy = ref(false);
/** What is typed: a local time without a zone. */
const time = ref('');
const expires = computed(() => props.document?.expires);

/** The local time of an instant, in the form of the input. */
function localTime(timeMs: number): string {
  const date = new Date(timeMs);
  return new Date(timeMs - date.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

function toggle(shown: boolean): void {
  open.value = shown;
  if (shown) time.value = localTime(expires.value === undefined ? Date.now() + 3_600_000 : Date.parse(expires.value));
}

async function move(end: string | null): Promise<void> {
  busy.value = true;
  try {
    await store.collection(props.collection).merge(props.document!.id, {}, { expires: end });
    open.value = false;
  } catch (error) {
    notices.error({ message: 'The end was not changed', description: describeFailure(error) });
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  {{ expires === undefined ? 'never' : new Date(expires).toLocaleString() }}
  <Popover v-if="document" trigger="click" placement="leftBottom" :open="open" @open-change="toggle">
    <template #content>
      <form class="end" @submit.prevent="move(new Date(time).toISOString())">
        <label>
          The store deletes the document at
          <input v-model="time" type="datetime-local" required />
        </label>
        <span class="actions">
          <Button v-if="expires !== undefined" size="small" :loading="busy" @click="move(null)">Never</Button>
          <Button size="small" type="primary" html-type="submit" :loading="busy" :disabled="time === ''">Set</Button>
        </span>
      </form>
    </template>
    <Button type="link" size="small" class="change" aria-label="Change when the document expires">Change</Button>
  </Popover>
</template>

<style scoped>
.change {
  display: block;
  padding: 0;
}
.end {
  display: grid;
  gap: 10px;
  max-width: 240px;
}
label {
  display: grid;
  gap: 4px;
}
input {
  font: inherit;
  padding: 4px 6px;
  border: 1px solid var(--line);
  border-radius: 5px;
  background: transparent;
  color: inherit;
}
.actions {
  display: flex;
  gap: 8px;
  justify-content: flex-end;
}
</style>
