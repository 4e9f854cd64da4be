<script setup lang="ts">
import { isProblem, type JsonObject } from '@uproar/client';
import type { CollectionSchema, SchemaMode, SchemaReport } from '@uproar/protocol';
import { Alert, Button, Popconfirm, Tag } from 'ant-design-vue';
import { computed, defineAsyncComponent, ref, shallowRef, watch } from 'vue';
import { dropDraft, keepDraft, readDraft } from '../unsaved/drafts';
import { usePolled } from '../shared/use-polled';
import { formatMoment, useCall } from '../shared/use-call';
import ChoiceBox from '../components/ChoiceBox.vue';
import { useNotices, useStore } from '../shared/injection';

/** The schema of a collection: propose, edit, check and set it. */
const props = defineProps<{ collection: string }>();
const CodeEditor = defineAsyncComponent(() => import('../components/CodeEditor.vue'));
const store = useStore();
const notices = useNotices();
const { busy, failure, run } = useCall(() => again());

const MODES: { value: SchemaMode; label: string }[] = [
  { value: 'off', label: 'off: a draft' },
  { value: 'warn', label: 'warn: accept violations with a warning' },
  { value: 'enforce', label: 'enforce: refuse violations' },
];
const SHOWN = 50;
const LOOK_EVERY_MS = 5000;
const path = `/v1/schemas/${props.collection}`;
/** Text that was typed but not set is kept; `base` is the version it started from, 0 for none. */
const key = `schema:${props.collection}`;
const kept = readDraft<{ text: string; mode: SchemaMode; base: number }>(key);
const text = ref(kept?.text ?? '');
const mode = ref<SchemaMode>(kept?.mode ?? 'warn');
const base = ref(kept?.base ?? 0);
const report = shallowRef<SchemaReport>();
/** Whether it could not be enforced because documents do not fit. */
const violations = ref('');
/** The schema that is set or proposed, as it was put into the editor; undefined before that. */
const offered = shallowRef<{ text: string; mode: SchemaMode }>();

const {
  value: listing,
  failure: unread,
  again,
} = usePolled(LOOK_EVERY_MS, () => store.fetch<{ schemas: CollectionSchema[] }>('/v1/schemas'));
const present = computed(() => listing.value?.schemas.find(({ collection }) => collection === props.collection));

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
/** Whether a person typed or chose something that is not set. */
const own = computed(() => {
  if (!offered.value) return kept !== undefined && altered.value;
  return altered.value && (text.value !== offered.value.text || mode.value !== offered.value.mode);
});
const overtaken = computed(() => own.value && (present.value?.version ?? 0) > base.value);

// While the editor has no edits, it follows the present schema.
watch(listing, (now, before) => {
  if (!now || own.value) return;
  if (before === undefined || (present.value?.version ?? 0) !== base.value) void takeSet();
});
/** Puts the schema that is set into the editor, or a proposal where none is set. */
async function takeSet(): Promise<void> {
  const set = present.value;
  base.value = set?.version ?? 0;
  if (!set) return propose();
  mode.value = set.mode;
  show(set.schema as JsonObject);
}

function show(proposed: JsonObject): void {
  text.value = JSON.stringify(proposed, null, 2);
  offered.value = { text: text.value, mode: mode.value };
}

async function propose(): Promise<void> {
  await run(async () => show(await store.fetch<JsonObject>(`${path}/proposal`)));
}

watch([text, mode, base, own], () => {
  if (!own.value) return dropDraft(key);
  const label = `Schema of ${props.collection}`;
  const value = { text: text.value, mode: mode.value, base: base.value };
  keepDraft({ key, value, edit: { label, path: `/shapes/${props.collection}?schema` } });
});
// The result is valid for the text that was checked.
watch([text, mode], () => {
  violations.value = '';
});
watch(text, () => (report.value = undefined));

async function check(): Promise<void> {
  report.value = undefined;
  const checked = text.value;
  const found = await run(() => store.post<SchemaReport>(`${path}/check`, { schema: schema.value }));
  if (checked === text.value) report.value = found;
}

async function set(anyway = false): Promise<void> {
  violations.value = '';
  const sent = { text: text.value, mode: mode.value };
  const body = { schema: schema.value, mode: mode.value, ...(anyway ? { anyway } : {}) };
  const answer = await run(async () => {
    try {
      return (await (await store.request('PUT', path, body)).json()) as CollectionSchema;
    } catch (error) {
      if (!isProblem(error, 'stored-violations')) throw error;
      violations.value = 'Some documents do not fit this schema, so it is not enforced yet.';
      return undefined;
    }
  });
  if (violations.value !== '') return check();
  if (!answer) return;
  base.value = answer.version;
  offered.value = sent;
  again();
  notices.success({
    message: `Version ${answer.version} of the schema of ${answer.collection} is set`,
    description: `From now on: ${MODES.find(({ value }) => value === answer.mode)!.label}`,
    duration: 3,
  });
}

async function remove(): Promise<void> {
  if (!(await run(() => store.request('DELETE', path)))) return;
  again();
  notices.success({ message: `The schema of ${props.collection} is removed`, duration: 3 });
}
</script>

<template>
  <section class="panel" aria-label="Schema">
    <div class="bar">
      <b>Schema</b>
      <Tag v-if="!present" color="warning">proposed, not set</Tag>
      <Tag v-else-if="altered" color="warning">changed</Tag>
      <Tag v-else color="success">version {{ present.version }}, {{ present.mode }}</Tag>
      <span v-if="present" class="muted when">set {{ formatMoment(present.time) }} by {{ present.identity }}</span>
      <span class="end">
        <Popconfirm v-if="present" title="Remove this schema?" ok-text="Remove" @confirm="remove">
          <Button size="small" type="text" danger>Remove</Button>
        </Popconfirm>
        <Popconfirm title="Replace what you typed?" ok-text="Replace" :disabled="!own" @confirm="propose">
          <Button size="small" @click="own || propose()">Propose from the documents</Button>
        </Popconfirm>
      </span>
    </div>
    <Alert
      v-if="overtaken && present"
      type="warning"
      show-icon
      :message="`${present.identity} set version ${present.version} while you edited version ${base}.`"
    >
      <template #action>
        <Button size="small" @click="base = present.version">Continue with yours</Button>
        <Popconfirm title="Discard your edits?" ok-text="Discard" @confirm="takeSet">
          <Button size="small" type="text">Take theirs</Button>
        </Popconfirm>
      </template>
    </Alert>
    <CodeEditor v-model="text" language="json" label="The schema as JSON" class="editor" @save="set()" />
    <Alert v-if="failure || unread" type="error" :message="failure || unread" />
    <Alert
      v-if="violations"
      type="error"
      :message="violations"
      description="Change those documents, or enforce it anyway: they stay as they are, and must fit when they are next written."
    >
      <template #action
        ><Button size="small" danger :loading="busy" @click="set(true)">Enforce anyway</Button></template
      >
    </Alert>
    <div v-if="report" class="report" role="status">
      <Alert
        v-if="report.violations === 0"
        type="success"
        :message="`All ${report.documents.toLocaleString()} documents fit.`"
      />
      <template v-else>
        <Alert
          type="warning"
          :message="`${report.violations.toLocaleString()} of ${report.documents.toLocaleString()} documents do not fit.`"
        />
        <ul tabindex="0" aria-label="Documents that do not fit">
          <li v-for="{ id, violations: faults } in report.examples.slice(0, SHOWN)" :key="id">
            <RouterLink :to="{ name: 'data', params: { collection, id } }" class="mono">{{ id }}</RouterLink>
            <span v-for="{ pointer, detail } in faults" :key="pointer + detail"
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
        aria-label="What to do with writes that violate the schema"
        @change="(value) => (mode = value as SchemaMode)"
      />
      <Button v-if="own" type="text" @click="takeSet">Discard</Button>
      <Button type="primary" :disabled="!schema || !altered || overtaken" :loading="busy" @click="set()">Set</Button>
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
