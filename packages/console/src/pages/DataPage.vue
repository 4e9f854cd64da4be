<script setup lang="ts">
import type { View } from '@uproar/client';
import { useWatch } from '@uproar/vue';
import { Alert, Button, Tag } from 'ant-design-vue';
import { computed, ref, watchEffect } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import CreateDrawer from '../components/CreateDrawer.vue';
import DocumentDrawer from '../components/DocumentDrawer.vue';
import DocumentTable from '../components/DocumentTable.vue';
import FirstSteps from '../components/FirstSteps.vue';
import QueryBar from '../components/QueryBar.vue';
import { useStore } from '../injection';

const props = defineProps<{ collections: View | undefined }>();
const store = useStore();
const route = useRoute();
const router = useRouter();
const creating = ref(false);

const collection = computed(() => String(route.params.collection ?? ''));
const id = computed(() => String(route.params.id ?? ''));
const where = computed(() => String(route.query.where ?? ''));
const order = computed(() => String(route.query.order ?? ''));
const view = useWatch(() => {
  if (collection.value === '') return undefined;
  return store.collection(collection.value).watch({ where: where.value || undefined, order: order.value || undefined });
});
const queryProblem = computed(() => (view.value?.error?.type === '/problems/bad-query' ? view.value.error : undefined));
const empty = computed(() => props.collections?.state === 'live' && props.collections.documents.length === 0);

// Without a collection in the address the first one is shown.
watchEffect(() => {
  const first = props.collections?.documents[0];
  if (collection.value === '' && first) void router.replace({ name: 'data', params: { collection: first.id } });
});

const WORDS = { loading: 'loading', live: 'live', stale: 'not up to date', failed: 'ended' };
const COLOURS = { loading: 'default', live: 'success', stale: 'warning', failed: 'error' };

function open(documentId?: string, name = collection.value): void {
  creating.value = false;
  const query = name === collection.value ? route.query : {};
  void router.push({ name: 'data', params: { collection: name, id: documentId ?? '' }, query });
}

function ask(condition: string, terms: string): void {
  const query = { ...(condition === '' ? {} : { where: condition }), ...(terms === '' ? {} : { order: terms }) };
  void router.push({ name: 'data', params: route.params, query });
}
</script>

<template>
  <main>
    <header>
      <h1>{{ collection || 'Data' }}</h1>
      <template v-if="view">
        <Tag :color="COLOURS[view.state]">{{ WORDS[view.state] }}</Tag>
        <span class="muted count"
          >{{ view.documents.length.toLocaleString() }} documents, seq {{ view.seq.toLocaleString() }}</span
        >
      </template>
      <Button type="primary" class="new" @click="creating = true">New document</Button>
    </header>
    <Alert
      v-if="view?.state === 'stale'"
      banner
      type="warning"
      message="The connection is broken. This is what the store held before; it catches up by itself."
    />
    <QueryBar
      v-if="collection !== '' && !empty"
      :key="collection"
      :collection="collection"
      :where="where"
      :order="order"
      :problem="queryProblem"
      :live="view?.state === 'live'"
      @ask="ask"
    />
    <Alert v-if="view?.error && !queryProblem" banner type="error" :message="view.error.detail" />
    <FirstSteps v-if="empty && collection === ''" />
    <div v-else-if="view?.state === 'live' && view.documents.length === 0" class="nothing">
      <template v-if="where !== ''">
        <b>No document meets the condition now</b>
        <span class="muted">Those that come to meet it appear here by themselves.</span>
      </template>
      <template v-else>
        <b>No documents in “{{ collection }}”</b>
        <span class="muted">They appear here as soon as somebody writes them.</span>
      </template>
    </div>
    <DocumentTable
      v-else-if="view && view.state !== 'loading'"
      :key="collection"
      :view="view"
      :selected="id"
      @open="open"
    />
    <div v-else-if="!queryProblem" class="nothing muted">Loading…</div>
    <DocumentDrawer v-if="id !== ''" :id="id" :key="`${collection}/${id}`" :collection="collection" @close="open()" />
    <CreateDrawer
      v-if="creating"
      :collection="collection"
      @close="creating = false"
      @created="(name, documentId) => open(documentId, name)"
    />
  </main>
</template>

<style scoped>
main {
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
}
header {
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 10px 16px;
  border-bottom: 1px solid var(--line);
}
h1 {
  margin: 0;
  font-size: 16px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.count {
  white-space: nowrap;
  font-variant-numeric: tabular-nums;
}
.new {
  margin-left: auto;
}
.nothing {
  display: flex;
  flex-direction: column;
  gap: 4px;
  align-items: center;
  padding: 64px 24px;
}
</style>
