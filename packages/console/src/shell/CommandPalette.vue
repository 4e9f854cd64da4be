<script setup lang="ts">
import type { View } from '@uproar/client';
import { isCollectionName, isDocumentId } from '@uproar/core';
import { Modal } from 'ant-design-vue';
import { computed, nextTick, ref, useTemplateRef, watch } from 'vue';
import { useRouter, type RouteLocationRaw } from 'vue-router';
import { isDark, toggleTheme } from '../shared/theme';
import { PAGES } from './pages';

const props = defineProps<{ collections: View | undefined }>();
const open = defineModel<boolean>('open', { required: true });
const emit = defineEmits<{ signOut: [] }>();
const router = useRouter();
const typed = ref('');
const at = ref(0);
const input = useTemplateRef<HTMLInputElement>('input');
const list = useTemplateRef<HTMLElement>('list');

interface Entry {
  kind: string;
  label: string;
  about?: string;
  run: () => void;
}
const go = (to: RouteLocationRaw) => () => void router.push(to);
const MOST_SHOWN = 40;

const entries = computed<Entry[]>(() => [
  ...documentsMeant(),
  ...PAGES.map(({ name, label, about }) => ({ kind: 'page', label, about, run: go({ name }) })),
  ...(props.collections?.documents ?? []).map(({ id }) => ({
    kind: 'collection',
    label: id,
    run: go({ name: 'data', params: { collection: id } }),
  })),
  { kind: 'do', label: 'New document', run: go({ name: 'data', params: here(), query: { new: '1' } }) },
  {
    kind: 'do',
    label: 'Edit many documents: set a field, find and replace',
    run: go({ name: 'data', params: here(), query: { edit: 'many' } }),
  },
  { kind: 'page', label: 'Compare: documents, versions, results', run: go({ name: 'compare' }) },
  { kind: 'page', label: 'First steps', run: go({ name: 'start' }) },
  ...(['policy', 'keys', 'accounts', 'audit'] as const).map((tab) => ({
    kind: 'page',
    label: `Access: ${tab === 'audit' ? 'audit log' : tab}`,
    run: go({ name: 'access', params: { tab } }),
  })),
  ...(props.collections?.documents ?? []).flatMap(({ id }) => [
    { kind: 'query', label: `Query ${id}`, run: go({ name: 'query', query: { from: id } }) },
    { kind: 'journal', label: `Journal of ${id}`, run: go({ name: 'journal', query: { collection: id } }) },
  ]),
  { kind: 'do', label: isDark.value ? 'Light colours' : 'Dark colours', run: toggleTheme },
  { kind: 'do', label: 'Copy the address of this page', run: () => void navigator.clipboard.writeText(location.href) },
  { kind: 'do', label: 'Sign out', run: () => emit('signOut') },
]);

function here(): Record<string, string> {
  const { collection } = router.currentRoute.value.params;
  return collection ? { collection: String(collection) } : {};
}

/** A document whose address was typed: `balloons/bl-17`, or an id of the collection that is open. */
function documentsMeant(): Entry[] {
  const [first, second] = typed.value.trim().split('/');
  const collection = second === undefined ? here().collection : first;
  const id = second ?? first;
  if (!collection || !id || !isCollectionName(collection) || !isDocumentId(id)) return [];
  const label = `${collection}/${id}`;
  const known = second !== undefined || /\d/.test(id);
  if (!known) return [];
  return [
    { kind: 'document', label, about: 'open it', run: go({ name: 'data', params: { collection, id } }) },
    { kind: 'journal', label: `Journal of ${label}`, run: go({ name: 'journal', query: { doc: label } }) },
  ];
}

const found = computed(() => {
  const words = typed.value.trim().toLowerCase().split(/\s+/).filter(Boolean);
  const meant = (entry: Entry) =>
    entry.kind === 'document' ||
    words.every((word) => `${entry.kind} ${entry.label} ${entry.about ?? ''}`.toLowerCase().includes(word));
  return entries.value.filter(meant).slice(0, MOST_SHOWN);
});
watch(typed, () => (at.value = 0));
watch(
  open,
  (now) => {
    if (!now) return;
    typed.value = '';
    at.value = 0;
  },
  { immediate: true },
);
// It is there once the dialog has been drawn.
watch(input, (element) => element?.focus(), { flush: 'post' });

async function step(by: number): Promise<void> {
  at.value = (at.value + by + found.value.length) % Math.max(1, found.value.length);
  await nextTick();
  list.value?.children[at.value]?.scrollIntoView({ block: 'nearest' });
}

function run(entry: Entry | undefined): void {
  if (!entry) return;
  open.value = false;
  entry.run();
}
</script>

<template>
  <Modal
    v-model:open="open"
    title="Go to"
    :footer="null"
    :closable="false"
    :width="520"
    :body-style="{ padding: 0 }"
    wrap-class-name="palette"
    destroy-on-close
  >
    <input
      ref="input"
      v-model="typed"
      role="combobox"
      aria-label="Go to"
      aria-controls="palette-list"
      aria-expanded="true"
      :aria-activedescendant="`palette-${at}`"
      placeholder="A page, a collection, balloons/bl-17 …"
      autocomplete="off"
      spellcheck="false"
      @keydown.down.prevent="step(1)"
      @keydown.up.prevent="step(-1)"
      @keydown.enter.prevent="run(found[at])"
    />
    <ul id="palette-list" ref="list" role="listbox" aria-label="Results">
      <li
        v-for="(entry, index) in found"
        :id="`palette-${index}`"
        :key="`${entry.kind} ${entry.label}`"
        role="option"
        :aria-selected="index === at"
        :class="{ at: index === at }"
        @mousemove="at = index"
        @click="run(entry)"
      >
        <span class="kind">{{ entry.kind }}</span>
        <span class="label">{{ entry.label }}</span>
        <span v-if="entry.about" class="about">{{ entry.about }}</span>
      </li>
    </ul>
    <p v-if="found.length === 0" class="muted">No results.</p>
  </Modal>
</template>

<style scoped>
input {
  width: 100%;
  padding: 8px 10px;
  border: 1px solid var(--line);
  border-radius: 5px;
  background: var(--paper);
  color: var(--ink);
  font: inherit;
  font-size: 14px;
}
ul {
  height: 340px;
  margin: 8px 0 0;
  padding: 0;
  overflow-y: auto;
  list-style: none;
}
li {
  display: flex;
  gap: 10px;
  align-items: baseline;
  padding: 5px 8px;
  border-radius: 5px;
  cursor: pointer;
}
li.at {
  background: var(--accent-soft);
}
.kind {
  width: 70px;
  color: var(--ink-3);
  font-size: 11.5px;
}
.label {
  font-weight: 600;
}
.about {
  overflow: hidden;
  color: var(--ink-2);
  text-overflow: ellipsis;
  white-space: nowrap;
}
p {
  margin: -330px 8px 300px;
}
</style>
