<script setup lang="ts">
import type { JsonObject } from '@uproar/client';
import type { CollectionSchema, SchemaMode, SchemaReport } from '@uproar/protocol';
import { Alert, Button, Tag } from 'ant-design-vue';
import { computed, defineAsyncComponent, ref, shallowRef, watch } from 'vue';
import { formatMoment, useCall } from '../components/access/use-call';
import ChoiceBox from '../components/ChoiceBox.vue';
import { useNotices, useStore } from '../injection';

/** The schema of a collection: proposed, edited, checked against what is there, and put in force. */
const props = defineProps<{ collection: string }>();
const CodeEditor = defineAsyncComponent(() => import('../components/CodeEditor.vue'));
const store = useStore();
const notices = useNotices();
const { busy, failure, run } = useCall();

const MODES: { value: SchemaMode; label: string }[] = [
  { value: 'off', label: 'a draft, judge nothing' },
  { value: 'warn', label: 'warn of misfits' },
  { value: 'enforce', label: 'refuse misfits' },
];
const SHOWN = 50;
const text = ref('');
const mode = ref<SchemaMode>('warn');
const present = shallowRef<CollectionSchema>();
const report = shallowRef<SchemaReport>();
const path = computed(() => `/v1/schemas/${props.collection}`);

watch(() => props.collection, load, { immediate: true });

async function load(): Promise<void> {
  report.value = undefined;
  await run(async () => {
    const { schemas } = await store.fetch<{ schemas: CollectionSchema[] }>('/v1/schemas');
    present.value = schemas.find(({ collection }) => collection === props.collection);
    if (present.value) {
      mode.value = present.value.mode;
      show(present.value.schema as JsonObject);
    } else await propose();
  });
}

function show(schema: JsonObject): void {
  text.value = JSON.stringify(schema, null, 2);
}

async function propose(): Promise<void> {
  await run(async () => show(await store.fetch<JsonObject>(`${path.value}/proposal`)));
}

const schema = computed(() => {
  try {
    return JSON.parse(text.value) as JsonObject;
  } catch {
    return undefined;
  }
});
const altered = computed(
  () =>
    !present.value ||
    mode.value !== present.value.mode ||
    JSON.stringify(schema.value) !== JSON.stringify(present.value.schema),
);

async function check(): Promise<void> {
  report.value = undefined;
  await run(
    async () => (report.value = await store.post<SchemaReport>(`${path.value}/check`, { schema: schema.value })),
  );
}

async function set(): Promise<void> {
  const body = { schema: schema.value, mode: mode.value };
  const answer = await run(
    async () => (await store.request('PUT', path.value, body)).json() as Promise<CollectionSchema>,
  );
  if (!answer) return;
  present.value = answer;
  notices.success({
    message: `Version ${answer.version} of the schema of ${answer.collection} is set`,
    description: `From now on: ${MODES.find(({ value }) => value === answer.mode)!.label}`,
    duration: 3,
  });
}
</script>

<template>
  <section class="panel" aria-label="Schema">
    <div class="bar">
      <b>Schema</b>
      <Tag v-if="!present" color="warning">proposed, not set</Tag>
      <Tag v-else-if="altered" color="warning">altered</Tag>
      <Tag v-else color="success">version {{ present.version }}, {{ present.mode }}</Tag>
      <span v-if="present" class="muted when">set {{ formatMoment(present.time) }} by {{ present.identity }}</span>
      <Button size="small" class="end" @click="propose">Propose from the documents</Button>
    </div>
    <CodeEditor v-model="text" language="json" label="The schema as JSON" class="editor" @save="set" />
    <Alert v-if="failure" type="error" :message="failure" />
    <div v-if="report" class="report" role="status">
      <Alert
        v-if="report.misfits === 0"
        type="success"
        :message="`All ${report.documents.toLocaleString()} documents fit.`"
      />
      <template v-else>
        <Alert
          type="warning"
          :message="`${report.misfits.toLocaleString()} of ${report.documents.toLocaleString()} documents do not fit.`"
        />
        <ul tabindex="0" aria-label="Documents that do not fit">
          <li v-for="{ id, violations } in report.examples.slice(0, SHOWN)" :key="id">
            <RouterLink :to="{ name: 'data', params: { collection, id } }" class="mono">{{ id }}</RouterLink>
            <span v-for="{ pointer, detail } in violations" :key="pointer + detail"
              ><span class="mono">{{ pointer || '/' }}</span> {{ detail }}</span
            >
          </li>
        </ul>
      </template>
    </div>
    <div class="bar">
      <Button :disabled="!schema" :loading="busy" @click="check">Check all documents</Button>
      <ChoiceBox
        :value="mode"
        class="mode"
        :options="MODES"
        aria-label="What becomes of writes that do not fit"
        @change="(value) => (mode = value as SchemaMode)"
      />
      <Button type="primary" :disabled="!schema || !altered" :loading="busy" @click="set">Set</Button>
    </div>
  </section>
</template>

<style scoped>
.panel {
  display: flex;
  flex: 1 1 46%;
  flex-direction: column;
  gap: 8px;
  min-width: 0;
  min-height: 0;
  padding: 10px 16px;
  border-left: 1px solid var(--line);
}
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.end {
  margin-left: auto;
}
.when {
  font-size: 12px;
}
.editor {
  flex: 1;
  min-height: 120px;
}
.mode {
  flex: 1;
  min-width: 180px;
}
ul {
  max-height: 180px;
  margin: 6px 0 0;
  padding: 0;
  overflow-y: auto;
  list-style: none;
  font-size: 12.5px;
}
li {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  padding: 3px 0;
  border-bottom: 1px solid var(--line);
}
a {
  color: var(--accent);
}
</style>
