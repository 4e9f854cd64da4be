<script setup lang="ts">
import { formatMs, prepareQuery, QueryError } from '@uproar/core';
import { Alert, Button } from 'ant-design-vue';
import { computed, onBeforeUnmount, ref, shallowRef, watch } from 'vue';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { useOnReconnect } from '../shared/use-on-reconnect';
import { changesPerSecond, conditionForIndex, conditionForTests, countMatching } from './cost-estimates';
import CostBars from './CostBars.vue';
import { formOf, type BenchQuery } from '../queries/bench-query';

const props = defineProps<{
  query: BenchQuery;
  /** The documents in the collection, if the caller may know their number. */
  total: number | undefined;
}>();
const store = useStore();
const notices = useNotices();

interface Explanation {
  where: string | null;
  scan: 'document' | 'index' | 'full' | 'none' | null;
  index: string | null;
  searchedBy: string[];
  ordered: boolean | null;
  documentsRead: number | null;
  documentsReturned: number;
  more: boolean;
  milliseconds: number | null;
  includes: { name: string; from: string; scan: 'ids' | 'index' | 'full'; index: string | null }[];
  matchedBy: { kind: keyof typeof MATCHED; requirements: string[] };
  warnings: string[];
  advice: string[];
}

/** Whether the plan is shown; remembered, as it takes room from the result. */
const OPEN = 'uproar-plan';
const open = ref(localStorage.getItem(OPEN) !== 'closed');
function toggle(): void {
  open.value = !open.value;
  localStorage.setItem(OPEN, open.value ? 'open' : 'closed');
}

const found = shallowRef<Explanation>();
/** What the query read before an index was created. */
const before = shallowRef<{ documentsRead: number; milliseconds: number }>();
const failure = ref('');
watch(
  () => props.query,
  () => {
    before.value = undefined;
    void explain();
  },
  { immediate: true },
);

useOnReconnect(() => {
  if (failure.value !== '') void explain();
});

/** Errors are shown next to the query; there is nothing to explain then. */
function isSound(query: BenchQuery): boolean {
  try {
    prepareQuery(formOf(query));
    return true;
  } catch (error) {
    if (error instanceof QueryError) return false;
    throw error;
  }
}

async function explain(): Promise<void> {
  const asked = props.query;
  if (!isSound(asked)) return;
  try {
    const answer = await store.post<Explanation>('/v1/explain', formOf(asked));
    if (props.query !== asked) return;
    found.value = answer;
    failure.value = '';
  } catch (error) {
    if (props.query === asked) failure.value = describeFailure(error);
  }
}

const SCANS = {
  document: 'one document, by its id',
  index: 'an index',
  full: 'every document of the collection (full scan)',
  none: 'nothing: the collection does not exist',
};
const MATCHED = {
  values: 'by values: only changes of documents with these values are tested',
  ranges: 'by a range: only changes of documents in this range are tested',
  areas: 'by an area: only changes of documents with a geometry that touches it are tested',
  texts: 'by a text: only changes of documents that contain it are tested',
  'every-change': 'every change of the collection is tested',
};
const facts = computed(() => {
  const answer = found.value;
  if (!answer) return [];
  const { scan, index, searchedBy, ordered, milliseconds, matchedBy } = answer;
  return [
    scan && { name: 'Scans', value: index ? `the index ${index} (index scan)` : SCANS[scan] },
    searchedBy.length > 0 && { name: 'Searched by', value: searchedBy.join(', ') },
    ordered !== null && {
      name: 'Order',
      value: !ordered ? 'by sorting all matches' : index ? 'by the index' : 'by ids',
    },
    ...answer.includes.map(({ name, from, scan, index }) => ({
      name: `With ${name}`,
      value: {
        ids: `${from}, by ids`,
        index: `${from}, by the index ${index}`,
        full: `all of ${from} (full scan)`,
      }[scan],
    })),
    milliseconds !== null && { name: 'Time', value: formatMs(milliseconds) },
    {
      name: 'As a watch',
      value:
        MATCHED[matchedBy.kind] + (matchedBy.requirements.length > 0 ? ` (${matchedBy.requirements.join(', ')})` : ''),
    },
  ].filter((fact) => fact !== false && fact !== null);
});

/** The command that an advice names. */
function commandIn(advice: string): { from: string; fields: string } | undefined {
  const [, from, fields] = /uproar index create (\S+) '([^']+)'/.exec(advice) ?? [];
  return from && fields ? { from, fields } : undefined;
}

const LOOK_AGAIN_MS = 500;
/** The index that is being built, and for how long. */
const building = shallowRef<{ fields: string; sinceMs: number; seconds: number }>();

async function makeIndex({ from, fields }: { from: string; fields: string }): Promise<void> {
  const { documentsRead, milliseconds } = found.value!;
  try {
    await store.post('/v1/indexes', { collection: from, fields });
  } catch (error) {
    notices.error({ message: 'The index was not created', description: describeFailure(error) });
    return;
  }
  building.value = { fields, sinceMs: Date.now(), seconds: 0 };
  while (building.value) {
    await new Promise((resolve) => setTimeout(resolve, LOOK_AGAIN_MS));
    if (ended) return;
    const { indexes } = await store
      .fetch<{ indexes: { collection: string; fields: string; ready: boolean }[] }>('/v1/indexes')
      .catch(() => ({ indexes: [] }));
    const index = indexes.find((one) => one.collection === from && one.fields === fields);
    if (index?.ready) break;
    building.value = { ...building.value, seconds: Math.round((Date.now() - building.value.sinceMs) / 1000) };
  }
  building.value = undefined;
  await explain();
  if (documentsRead !== null && milliseconds !== null) before.value = { documentsRead, milliseconds };
}
let ended = false;
onBeforeUnmount(() => (ended = true));

const advised = computed(() => found.value?.advice.map(commandIn).find((one) => one !== undefined));
/** Documents are counted for the estimate only if the query itself read no more than this. */
const MOST_COUNTED = 50_000;
/** Documents that an advised index would leave to read, and changes per second. */
const counts = shallowRef<{
  withIndex?: number;
  rate?: { all: number; tested: number | undefined; sent: number };
}>({});
watch(found, async (answer) => {
  counts.value = {};
  if (!answer) return;
  const { from, where, limit } = props.query;
  const add = (part: typeof counts.value) => {
    if (found.value === answer) counts.value = { ...counts.value, ...part };
  };
  // What the store does not let this key know is left out.
  const index = advised.value;
  const narrowed = index && where !== '' ? conditionForIndex(where, index.fields) : undefined;
  if (narrowed !== undefined && (answer.documentsRead ?? 0) <= MOST_COUNTED) {
    await countMatching(store, from, narrowed)
      .then((count) => add({ withIndex: coversOrder() ? Math.min(count, Number(limit) || count) : count }))
      .catch(() => undefined);
  }
  const tests = conditionForTests(answer.matchedBy.requirements);
  const conditions = [undefined, where || undefined, ...(tests ? [tests.where] : [])];
  await changesPerSecond(store, from, conditions)
    .then(([all, sent, tested]) => add({ rate: { all: all!, sent: sent!, tested } }))
    .catch(() => undefined);
});
/** Whether the advised index holds all fields of the order, so that reading can stop at the limit. */
function coversOrder(): boolean {
  const names = (text: string) => text.split(',').map((term) => term.trim().replace(/^-/, ''));
  return (
    props.query.order === '' || names(props.query.order).every((name) => names(advised.value!.fields).includes(name))
  );
}

const number = (value: number) => value.toLocaleString();
const reads = computed(() => {
  const { documentsRead, documentsReturned, more } = found.value!;
  if (documentsRead === null) return [];
  const { withIndex } = counts.value;
  const { total } = props;
  return [
    ...(total === undefined ? [] : [{ name: 'in the collection', value: total, text: number(total) }]),
    ...(before.value
      ? [
          {
            name: 'read before',
            value: before.value.documentsRead,
            text: `${number(before.value.documentsRead)}, ${formatMs(before.value.milliseconds)}`,
          },
        ]
      : []),
    { name: 'read', value: documentsRead, text: number(documentsRead), kind: 'main' as const },
    ...(withIndex === undefined
      ? []
      : [{ name: 'with the index', value: withIndex, text: `about ${number(withIndex)}`, kind: 'possible' as const }]),
    { name: 'returned', value: documentsReturned, text: `${number(documentsReturned)}${more ? ' and more' : ''}` },
  ];
});
const perSecond = (value: number) => `${Number(value.toPrecision(2)).toLocaleString()}/s`;
const watches = computed(() => {
  const { rate } = counts.value;
  if (!rate) return [];
  return [
    { name: 'changes', value: rate.all, text: perSecond(rate.all) },
    ...(rate.tested === undefined
      ? []
      : [{ name: 'tested', value: rate.tested, text: perSecond(rate.tested), kind: 'main' as const }]),
    { name: 'sent', value: rate.sent, text: perSecond(rate.sent) },
  ];
});
</script>

<template>
  <section aria-label="Plan">
    <h2>
      <button type="button" class="as-link" :aria-expanded="open" @click="toggle">Plan {{ open ? '▾' : '▸' }}</button>
    </h2>
    <Alert v-if="failure && open" type="warning" :message="failure" />
    <template v-else-if="found && open">
      <CostBars v-if="reads.length > 0" title="Documents for one result" :bars="reads" />
      <CostBars v-if="watches.length > 0" title="A watch of it, at the rate of the last minute" :bars="watches" />
      <dl>
        <template v-for="{ name, value } in facts" :key="name">
          <dt>{{ name }}</dt>
          <dd>{{ value }}</dd>
        </template>
      </dl>
      <p v-if="building" role="status" class="hint">
        Building the index {{ building.fields }}, {{ building.seconds }} s…
      </p>
      <Alert v-for="warning in found.warnings" :key="warning" class="hint" type="warning" :message="warning" />
      <Alert v-for="advice in found.advice" :key="advice" class="hint" type="info" :message="advice">
        <template v-if="commandIn(advice)" #action>
          <Button size="small" :loading="building !== undefined" @click="makeIndex(commandIn(advice)!)"
            >Create index</Button
          >
        </template>
      </Alert>
    </template>
    <p v-else-if="open" class="muted">Loading…</p>
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 6px;
  font-size: 13px;
}
h2 button {
  color: var(--ink);
  font-weight: inherit;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 12px;
  margin: 0 0 8px;
  font-size: 12.5px;
}
dt {
  color: var(--ink-3);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.hint {
  margin-top: 6px;
  font-size: 12px;
}
</style>
