<script setup lang="ts">
import { Alert, Input, Segmented } from 'ant-design-vue';
import { computed, nextTick, onMounted, ref, shallowRef } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { readLive, readRequests, type AsyncApi, type Group, type OpenApi, type Schema } from './descriptions';
import SchemaTree from './SchemaTree.vue';
import CodeText from '../components/CodeText.vue';
import PageFrame from '../components/PageFrame.vue';
import { describeFailure } from '../shared/failure';
import { useStore } from '../shared/injection';
import { useOnReconnect } from '../shared/use-on-reconnect';

const VIEWS = [
  { label: 'Requests', value: 'http' },
  { label: 'Live', value: 'live' },
];

const store = useStore();
const route = useRoute();
const router = useRouter();
const search = ref('');
const failure = ref('');
const found = shallowRef<Record<'http' | 'live', { groups: Group[]; known: Record<string, Schema> }>>();
const view = computed(() => (route.params.view === 'live' ? 'live' : 'http'));
const opened = computed(() => String(route.query.open ?? ''));
const known = computed(() => found.value?.[view.value].known ?? {});

const groups = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/);
  const isMeant = (text: string) => words.every((word) => text.toLowerCase().includes(word));
  return (found.value?.[view.value].groups ?? [])
    .map((group) => ({
      ...group,
      entries: group.entries.filter(({ kind, title, about }) => isMeant(`${kind} ${title} ${about} ${group.name}`)),
    }))
    .filter(({ entries }) => entries.length > 0);
});

onMounted(read);
useOnReconnect(() => {
  if (!found.value) void read();
});
async function read(): Promise<void> {
  failure.value = '';
  try {
    const [openApi, asyncApi] = await Promise.all([
      store.fetch<OpenApi>('/openapi.json'),
      store.fetch<AsyncApi>('/asyncapi.json'),
    ]);
    found.value = {
      http: { groups: readRequests(openApi), known: openApi.components?.schemas ?? {} },
      live: { groups: readLive(asyncApi), known: asyncApi.components.schemas },
    };
    await nextTick();
    document.getElementById(opened.value)?.scrollIntoView();
  } catch (error) {
    failure.value = describeFailure(error);
  }
}

function toggle(id: string): void {
  void router.replace({ ...route, query: opened.value === id ? {} : { open: id } } as never);
}
</script>

<template>
  <PageFrame title="API">
    <template #facts>
      <Segmented
        size="small"
        :options="VIEWS"
        :value="view"
        @change="(value) => router.replace({ name: 'api', params: { view: String(value) } })"
      />
      <span class="muted">the whole API of the store; this console uses only this API</span>
    </template>
    <template #tools>
      <Input v-model:value="search" class="search" size="small" allow-clear placeholder="Find" aria-label="Find" />
    </template>
    <Alert v-if="failure" banner type="error" :message="failure" />
    <div v-else-if="!found" class="nothing muted">Loading…</div>
    <div v-else-if="groups.length === 0" class="nothing"><b>Nothing is like that</b></div>
    <div v-else class="list" tabindex="0" role="region" aria-label="Results">
      <p class="files muted">
        For machines:
        <code>{{ view === 'http' ? '/openapi.json' : '/asyncapi.json' }}</code>
        ({{ view === 'http' ? 'OpenAPI 3.1' : 'AsyncAPI 3.0' }}). In words: <a href="/docs/">the documentation</a>.
      </p>
      <section v-for="{ name, about, entries } in groups" :key="name" :aria-label="name">
        <h2>
          {{ name }} <small v-if="about" class="muted">{{ about }}</small>
        </h2>
        <article v-for="entry in entries" :id="entry.id" :key="entry.id" :class="{ open: opened === entry.id }">
          <button type="button" :aria-expanded="opened === entry.id" @click="toggle(entry.id)">
            <span class="kind mono" :class="entry.kind.toLowerCase()">{{ entry.kind }}</span>
            <span class="mono title">{{ entry.title }}</span>
            <span class="muted about">{{ entry.about }}</span>
          </button>
          <div v-if="opened === entry.id" class="inside">
            <p v-if="entry.description"><CodeText :text="entry.description" /></p>
            <p v-if="entry.parts.length === 0" class="muted">It takes nothing and answers without a body.</p>
            <template v-for="part in entry.parts" :key="part.title">
              <h3>
                {{ part.title }} <small v-if="part.note" class="muted">{{ part.note }}</small>
              </h3>
              <SchemaTree :schema="part.schema" :known="known" />
            </template>
          </div>
        </article>
      </section>
    </div>
  </PageFrame>
</template>

<style scoped>
.search {
  width: 220px;
}
.list {
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 4px 20px 40px;
}
.files {
  margin: 8px 0 0;
}
.files a {
  color: var(--accent);
}
h2 {
  margin: 18px 0 6px;
  font-size: 14px;
}
h2::first-letter {
  text-transform: uppercase;
}
h2 small {
  margin-left: 6px;
  font-weight: normal;
}
h3 {
  margin: 14px 0 2px;
  font-size: 13px;
}
h3 small {
  margin-left: 6px;
  font-weight: normal;
}
article {
  border: 1px solid var(--line);
  border-bottom-width: 0;
}
article:last-child {
  border-bottom-width: 1px;
}
article > button {
  display: grid;
  grid-template-columns: 58px minmax(200px, 340px) minmax(0, 1fr);
  gap: 12px;
  align-items: baseline;
  width: 100%;
  padding: 6px 12px;
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  cursor: pointer;
}
article > button:hover,
article.open > button {
  background: var(--paper-2);
}
.kind {
  font-weight: 600;
}
.get,
.head,
.event {
  color: var(--live);
}
.post,
.put,
.patch,
.call {
  color: var(--number);
}
.delete {
  color: var(--bad);
}
.title {
  overflow-wrap: anywhere;
}
.inside {
  padding: 4px 16px 14px 82px;
  border-top: 1px solid var(--line);
}
@media (max-width: 700px) {
  article > button {
    grid-template-columns: 50px minmax(0, 1fr);
  }
  .about {
    grid-column: 2;
  }
  .inside {
    padding-left: 16px;
  }
}
</style>
