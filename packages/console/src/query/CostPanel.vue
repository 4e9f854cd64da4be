<script setup lang="ts">
import { formatMs, prepareQuery, QueryError } from '@uproar/core';
import { Alert, Button } from 'ant-design-vue';
import { computed, ref, shallowRef, watch } from 'vue';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { useOnReconnect } from '../shared/use-on-reconnect';
import { formOf, type BenchQuery } from '../queries/bench-query';

const props = defineProps<{ query: BenchQuery }>();
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
  matchedBy: { kind: 'values' | 'ranges' | 'every-change'; requirements: string[] };
  warnings: string[];
  advice: string[];
}

const found = shallowRef<Explanation>();
const failure = ref('');
watch(
  () => props.query,
  () => void explain(),
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
  'every-change': 'every change of the collection is tested',
};
const facts = computed(() => {
  const answer = found.value;
  if (!answer) return [];
  const { scan, index, searchedBy, ordered, documentsRead, documentsReturned, more, milliseconds, matchedBy } = answer;
  return [
    scan && { name: 'Scans', value: index ? `the index ${index} (index scan)` : SCANS[scan] },
    searchedBy.length > 0 && { name: 'Searched by', value: searchedBy.join(', ') },
    documentsRead !== null && {
      name: 'Reads',
      value: `${documentsRead.toLocaleString()} documents for ${documentsReturned.toLocaleString()}${more ? ' and more' : ''}`,
    },
    ordered !== null && { name: 'Order', value: ordered ? 'by the index' : 'by sorting all matches' },
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

async function makeIndex({ from, fields }: { from: string; fields: string }): Promise<void> {
  try {
    await store.post('/v1/indexes', { collection: from, fields });
    notices.success({ message: `Creating the index ${fields}`, duration: 3 });
    setTimeout(() => void explain(), 800);
  } catch (error) {
    notices.error({
      message: 'The index was not created',
      description: describeFailure(error),
    });
  }
}
</script>

<template>
  <section aria-label="Plan">
    <h2>Plan</h2>
    <Alert v-if="failure" type="warning" :message="failure" />
    <template v-else-if="found">
      <dl>
        <template v-for="{ name, value } in facts" :key="name">
          <dt>{{ name }}</dt>
          <dd>{{ value }}</dd>
        </template>
      </dl>
      <Alert v-for="warning in found.warnings" :key="warning" class="hint" type="warning" :message="warning" />
      <Alert v-for="advice in found.advice" :key="advice" class="hint" type="info" :message="advice">
        <template v-if="commandIn(advice)" #action>
          <Button size="small" @click="makeIndex(commandIn(advice)!)">Create index</Button>
        </template>
      </Alert>
    </template>
    <p v-else class="muted">Loading…</p>
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 6px;
  font-size: 13px;
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
