<script setup lang="ts">
import type { View } from '@uproar/client';
import { useWatch } from '@uproar/vue';
import { Alert, Button, Input } from 'ant-design-vue';
import { computed, defineAsyncComponent, ref, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import HoldButton from '../components/HoldButton.vue';
import PageFrame from '../components/PageFrame.vue';
import StateTag from '../components/StateTag.vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { vocabularyOf } from '../cql/vocabulary';
import ResultView from '../result/ResultView.vue';
import ShowSwitch from '../result/ShowSwitch.vue';
import SaveQuery from '../queries/SaveQuery.vue';
import { addBox, type Box } from '../result/map/box';
import { savedIn } from '../queries/saved-queries';
import { momentIn, useMoment } from '../past/use-moment';
import { presentationIn, usePresentation } from '../result/presentation';
import { useStore } from '../shared/injection';
import type { QueryForm } from '@uproar/core';
import { formOf, partsOf, readParts, type BenchQuery } from '../queries/bench-query';
import { copiesOf } from '../queries/copies';
import CopyAs from '../queries/CopyAs.vue';
import CostPanel from './CostPanel.vue';
import { isRelated, withRelated } from '../result/related-columns';
import { usePausableView } from '../table/pausable-view';
import OfferedQuery from '../unsaved/OfferedQuery.vue';
import { useTypedQuery } from '../unsaved/use-typed-query';
import type { Column } from '../table/layout';
import { sortBy } from '../table/sorting';

const props = defineProps<{ collections: View | undefined }>();
const PastResult = defineAsyncComponent(() => import('../past/PastResult.vue'));
const CqlEditor = defineAsyncComponent(() => import('../cql/CqlEditor.vue'));
const store = useStore();
const route = useRoute();
const router = useRouter();

const { presentation, present } = usePresentation();
const { at, showAt } = useMoment();
/** Related documents are not part of the history. */
const form = computed((): QueryForm => {
  const { include: _, ...query } = formOf(asked.value!);
  return query;
});
const collectionNames = computed(() => (props.collections?.documents ?? []).map(({ id }) => id));
const DEFAULT_LIMIT = '100';
/** The collection of the query if the address names none: the first collection, fixed even if others are created. */
const firstCollection = ref<string>();
watch(
  () => props.collections?.documents[0]?.id,
  (id) => (firstCollection.value ??= id),
  { immediate: true },
);
/** The query of the address, as text: unchanged while the query is the same. */
const key = computed(() => {
  const from = String(route.query.from ?? '') || firstCollection.value;
  if (from === undefined) return undefined;
  const parts = readParts((name) => route.query[name]);
  return JSON.stringify({ from, ...parts, limit: parts.limit || DEFAULT_LIMIT } satisfies BenchQuery);
});
/** The query in the address. */
const asked = computed(() => (key.value === undefined ? undefined : (JSON.parse(key.value) as BenchQuery)));
/** The typed query. Choosing another collection runs the query at once. */
const NOTHING = { where: '', order: '', fields: '', include: '', summary: '', by: '' };
const { typed, altered, offered, reset, takeOffered, dropOffered } = useTypedQuery(
  () => `query:${asked.value?.from}`,
  () => {
    const { from: _, ...fields } = asked.value ?? { from: '', limit: '', ...NOTHING };
    return fields;
  },
);
/** Whether the query returns totals; then the other fields do not apply. */
const totals = computed(() => typed.summary !== '');
const limitFault = computed(() => !/^([1-9]\d{0,4}|none|)$/.test(typed.limit) || Number(typed.limit) > 10_000);

const view = useWatch(() => {
  const query = asked.value;
  if (!query) return undefined;
  const { limit, ...parts } = partsOf(query);
  return store
    .collection(query.from)
    .watch({ ...parts, ...(limit === undefined ? {} : { limit: limit === 'none' ? limit : Number(limit) }) });
});
const { frame: calm, paused, waiting } = usePausableView(view);
const frame = computed(() => calm.value && withRelated(calm.value));
/** Documents of the collection as they are, to complete conditions with. */
const sample = useWatch(() => {
  const from = asked.value?.from;
  return from === undefined ? undefined : store.collection(from).watch({ limit: 300 });
});

const fault = computed(() => view.value?.error);
const marked = computed(() => {
  const { position, pointer } = fault.value ?? {};
  if (position === undefined || !asked.value) return undefined;
  const part = ({ '/order': 'order', '/include': 'include' } as const)[pointer ?? ''] ?? 'where';
  const line = asked.value[part].replaceAll('\n', ' ');
  return `${line}\n${' '.repeat(position)}▲`;
});

/** Runs the typed query. */
function run(): void {
  if (!limitFault.value) show({ from: asked.value!.from, ...typed });
}

function show(query: Partial<BenchQuery>): void {
  const said = Object.entries(query).filter(
    ([name, value]) => value !== '' && !(name === 'limit' && value === DEFAULT_LIMIT),
  );
  void router.push({
    name: 'query',
    query: {
      ...presentationIn(route.query),
      ...momentIn(route.query),
      ...savedIn(route.query),
      ...Object.fromEntries(said),
    },
  });
}

function narrow(field: string, box: Box): void {
  show({ ...asked.value!, where: addBox(asked.value!.where, field, box) });
}

/** Related documents and totals cannot be sorted by. Text that was typed but not run is kept. */
function sort(column: Column, add: boolean): void {
  const query = asked.value!;
  if (query.summary !== '' || isRelated(column.path)) return;
  show({ ...query, order: sortBy(query.order, column, add) });
}

/** How the result is drawn, now or as it was, and what is done with it there. */
const drawn = computed(() => ({
  ...{
    collection: asked.value?.from ?? '',
    where: asked.value?.where ?? '',
    order: asked.value?.order ?? '',
    selected: '',
  },
  ...{
    presentation: presentation.value,
    collections: collectionNames.value,
    totals: (asked.value?.summary ?? '') !== '',
  },
  ...{ onSort: sort, onPresent: present, onNarrow: narrow },
  onOpen: (id: string) => void router.push({ name: 'data', params: { collection: asked.value!.from, id } }),
}));

const copies = computed(() => (asked.value ? copiesOf(asked.value, location.origin) : []));
/** The number of documents in the collection of the query. */
const total = computed(() => {
  const found = props.collections?.documents.find(({ id }) => id === asked.value?.from);
  return typeof found?.data.documents === 'number' ? found.data.documents : undefined;
});
const empty = computed(() => props.collections?.state === 'live' && props.collections.documents.length === 0);
</script>

<template>
  <PageFrame title="Query" class="query">
    <template #facts>
      <template v-if="view">
        <StateTag :state="view.state" :paused="paused" :past="at !== undefined" />
        <span v-if="view.state !== 'failed' && at === undefined" class="muted count"
          >{{ (frame?.view ?? view).documents.length.toLocaleString() }} {{ asked?.summary ? 'groups' : 'documents'
          }}{{ view.more ? ', and more' : '' }}</span
        >
      </template>
    </template>
    <template #tools>
      <ShowSwitch
        v-if="asked"
        :show="presentation.show"
        :totals="asked.summary !== ''"
        @change="(show) => present({ show })"
      />
      <span id="table-tools" />
      <Button
        v-if="view && !fault && at === undefined"
        size="small"
        title="See this result as it was, change by change"
        @click="showAt('now')"
        >Rewind</Button
      >
      <HoldButton v-if="view?.documents.length && at === undefined" v-model:paused="paused" :waiting="waiting" />
      <SaveQuery v-if="asked" :query="asked" :presentation="presentation" />
      <CopyAs v-if="asked" size="small" :copies="copies" />
    </template>
    <p v-if="empty" class="nothing muted">There are no documents yet. Create one on the page Data.</p>
    <template v-else-if="asked">
      <div class="bench">
        <form role="search" @submit.prevent="run()">
          <div class="line">
            <label for="bench-from">from</label>
            <ChoiceBox
              id="bench-from"
              :value="asked.from"
              class="from"
              :options="(collections?.documents ?? []).map(({ id }) => ({ value: id, label: id }))"
              @change="(from) => show({ from: String(from) })"
            />
            <span class="run">
              <Button v-if="altered" type="text" title="Back to the query whose result is shown" @click="reset"
                >Reset</Button
              >
              <Button type="primary" html-type="submit" :disabled="limitFault" title="Ctrl+Enter">{{
                altered ? 'Run' : 'Run again'
              }}</Button>
            </span>
          </div>
          <OfferedQuery :fields="offered" @take="takeOffered" @drop="dropOffered" />
          <CqlEditor
            v-model="typed.where"
            label="where"
            lines="many"
            hint="status = 'aloft' AND altitude > 300    – Ctrl+Space completes, Ctrl+Enter runs"
            :vocabulary="() => vocabularyOf(sample)"
            @run="run()"
          />
          <div class="line">
            <label for="bench-include">include</label>
            <Input
              id="bench-include"
              v-model:value="typed.include"
              class="mono grow"
              :disabled="totals"
              placeholder="crew = crews via crewId; flights by balloonId order -start limit 3"
            />
          </div>
          <div class="line">
            <label for="bench-order">order</label>
            <Input
              id="bench-order"
              v-model:value="typed.order"
              class="mono grow"
              :disabled="totals"
              placeholder="-altitude,name"
            />
            <label for="bench-limit">limit</label>
            <Input
              id="bench-limit"
              v-model:value="typed.limit"
              class="mono limit"
              :disabled="totals"
              :status="limitFault ? 'error' : ''"
              :title="limitFault ? 'A number up to 10000, or none' : undefined"
            />
            <label for="bench-fields">fields</label>
            <Input
              id="bench-fields"
              v-model:value="typed.fields"
              class="mono grow"
              :disabled="totals"
              placeholder="all, or name,pilot.name"
            />
          </div>
          <div class="line">
            <label for="bench-summary">summary</label>
            <Input
              id="bench-summary"
              v-model:value="typed.summary"
              class="mono grow wide"
              placeholder="totals instead of documents: count(),max(altitude)"
            />
            <label for="bench-by">by</label>
            <Input id="bench-by" v-model:value="typed.by" class="mono grow" :disabled="!totals" placeholder="status" />
          </div>
          <div v-if="fault" class="fault" role="alert">
            <pre v-if="marked">{{ marked }}</pre>
            {{ fault.detail }}
          </div>
        </form>
        <CostPanel v-if="!fault" class="cost" :query="asked" :total="total" />
      </div>
      <Alert
        v-if="view?.state === 'stale'"
        banner
        type="warning"
        message="The connection is broken. This is the last known state."
      />
      <PastResult
        v-if="at !== undefined && !fault"
        v-slot="{ frame: then }"
        :key="asked.from"
        :form="form"
        :start-at="at === 'now' ? undefined : at"
        :totals="drawn.totals"
        @moment="showAt"
        @close="showAt(undefined)"
        @open="drawn.onOpen"
      >
        <ResultView v-bind="drawn" :frame="then" :editable="false" />
      </PastResult>
      <div v-else-if="view?.state === 'live' && view.documents.length === 0" class="nothing">
        <b>{{ asked.summary ? 'There are no groups' : 'No document matches' }}</b>
        <span class="muted">Documents appear here as soon as they match.</span>
      </div>
      <ResultView
        v-else-if="frame && frame.view.state !== 'loading' && frame.view.documents.length > 0"
        :key="`${asked.from} ${asked.fields} ${asked.include} ${asked.summary} ${asked.by}`"
        v-bind="drawn"
        :frame="frame"
        :editable="asked.fields === ''"
      />
      <div v-else-if="!fault" class="nothing muted">Loading…</div>
    </template>
  </PageFrame>
</template>

<style scoped>
.count {
  font-variant-numeric: tabular-nums;
}
.bench {
  display: grid;
  grid-template-columns: minmax(0, 1.5fr) minmax(0, 1fr);
  gap: 20px;
  padding: 12px 16px;
  border-bottom: 1px solid var(--line);
}
form {
  display: flex;
  flex-direction: column;
  gap: 8px;
  min-width: 0;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
label {
  color: var(--ink-3);
}
.from {
  width: 200px;
}
.run {
  margin-left: auto;
}
.grow {
  flex: 1 1 110px;
  width: auto;
}
.grow.wide {
  flex-grow: 2;
}
.limit {
  width: 70px;
}
.fault {
  color: var(--bad);
}
pre {
  margin: 0;
  overflow-x: auto;
  font-family: var(--mono);
  font-size: 12px;
  line-height: 1.3;
}
@media (max-width: 900px) {
  .query {
    overflow-y: auto;
  }
  .query :deep(.table) {
    flex: none;
    height: 70vh;
  }
  .bench {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
