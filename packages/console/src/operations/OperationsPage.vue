<script setup lang="ts">
import type { MetricsReport, Sample, SlowQuery, ViewCost } from '@uproar/protocol';
import { Alert, Segmented, Tag } from 'ant-design-vue';
import { useConnection } from '@uproar/vue';
import { computed, ref } from 'vue';
import { formatBytes, formatDuration, formatMs } from '@uproar/core';
import PageFrame from '../components/PageFrame.vue';
import WatchedLink from '../components/WatchedLink.vue';
import { useStore } from '../shared/injection';
import ClusterNodes from './ClusterNodes.vue';
import TimePlot, { type Line } from './TimePlot.vue';
import { usePolled } from '../shared/use-polled';

const store = useStore();
const connection = useConnection(store);
const inCluster = computed(() => connection.value.name === 'online' && connection.value.server.node !== undefined);
const SPANS = { '2 min': 120, '5 min': 300, '15 min': 900 } as const;
const span = ref<keyof typeof SPANS>('5 min');

/** Only new samples are requested; earlier ones are kept here. */
const { value: metrics, failure } = usePolled<MetricsReport>(1000, async (before) => {
  const last = before?.samples.at(-1)?.time;
  const next = await store.fetch<MetricsReport>(`/v1/metrics/samples${last === undefined ? '' : `?after=${last}`}`);
  const kept = before?.started === next.started ? before.samples : [];
  return { ...next, samples: [...kept, ...next.samples].slice(-900) };
});
const { value: queries } = usePolled(3000, () => store.fetch<{ queries: SlowQuery[] }>('/v1/metrics/queries'));
const { value: views } = usePolled(3000, () =>
  store.fetch<{ views: ViewCost[]; total: number }>('/v1/metrics/views?limit=50'),
);

const samples = computed(() => metrics.value?.samples.slice(-SPANS[span.value]) ?? []);
const now = computed(() => samples.value.at(-1));
const times = computed(() => samples.value.map(({ time }) => Date.parse(time) / 1000));
const pick = (read: (sample: Sample) => number | null | undefined) =>
  samples.value.map((sample) => read(sample) ?? null);
const line = (
  name: string,
  colour: string,
  read: (sample: Sample) => number | null | undefined,
  fill = false,
): Line => ({
  name,
  colour,
  values: pick(read),
  fill,
});
const percentiles = (read: (sample: Sample) => Sample['commitMs']): Line[] => [
  line('p50', '--live', (sample) => read(sample)?.p50),
  line('p95', '--warn', (sample) => read(sample)?.p95),
  line('p99', '--bad', (sample) => read(sample)?.p99),
];
const count = (value: number) =>
  value >= 10_000 ? `${Math.round(value / 1000)}k` : String(Math.round(value * 10) / 10);

const plots = computed(() => [
  {
    title: 'Commits per second',
    format: count,
    lines: [
      line('commits', '--accent', ({ commits }) => commits, true),
      line('refused', '--bad', ({ refusals }) => refusals),
    ],
  },
  {
    title: 'Deliveries per second',
    format: count,
    lines: [line('events sent', '--live', ({ deliveries }) => deliveries, true)],
  },
  {
    title: 'Commit latency',
    about: 'From receiving a commit to acknowledging it',
    format: formatMs,
    lines: percentiles(({ commitMs }) => commitMs),
  },
  {
    title: 'Delivery latency',
    about: 'From the sync to disk to the sockets of all watchers',
    format: formatMs,
    lines: percentiles(({ deliveryMs }) => deliveryMs),
  },
  {
    title: 'Commit queue',
    format: count,
    lines: [line('waiting commits', '--warn', ({ waiting }) => waiting, true)],
  },
  {
    title: 'Event loop delay',
    format: formatMs,
    lines: [line('max', '--bad', ({ loopDelayMs }) => loopDelayMs)],
  },
  {
    title: 'Memory',
    format: formatBytes,
    lines: [
      line('process', '--accent', ({ memoryBytes }) => memoryBytes),
      line('heap', '--number', ({ heapBytes }) => heapBytes),
    ],
  },
  { title: 'Store on disk', format: formatBytes, lines: [line('files', '--number', ({ storeBytes }) => storeBytes)] },
]);

const journalSpan = computed(() => {
  const journal = metrics.value?.journal;
  if (!journal || journal.from === null) return 'empty';
  return `${(journal.last - journal.first + 1).toLocaleString()} commits, ${formatBytes(journal.sizeBytes)}, reaching back ${formatDuration(Date.now() - Date.parse(journal.from))}`;
});
const facts = computed(() => [
  { name: 'Running for', value: metrics.value ? formatDuration(Date.now() - Date.parse(metrics.value.started)) : '' },
  { name: 'Seq', value: now.value?.seq.toLocaleString() ?? '–' },
  {
    name: 'Connections',
    value: `${now.value?.connections.toLocaleString() ?? '–'} of ${metrics.value?.connectionLimit.toLocaleString() ?? '–'}`,
  },
  { name: 'Views', value: now.value?.views.toLocaleString() ?? '–' },
  { name: 'Requests per second', value: now.value ? count(now.value.requests) : '–' },
  { name: 'Journal', value: journalSpan.value },
  {
    name: 'Memory for clients',
    value: `${formatBytes(budgets.value?.heldBytes ?? 0)} of ${formatBytes(budgets.value?.processBytes ?? 0)}`,
  },
]);
const budgets = computed(() => metrics.value?.budgets);
/** What each reason to end a connection or to refuse a request means. */
const REASONS: Readonly<Record<string, string>> = {
  idle: 'Connections closed because they sent no request',
  unread: 'Connections closed because they read nothing',
  'too-much-unread': 'Connections closed because too much waited to be read',
  unfinished: 'Connections closed because a message did not end',
  'limit-reached': 'Connections refused because there were too many',
  'live-work': 'Watches ended because their conditions took too much work',
  identity: 'Requests refused because one identity used its memory',
  process: 'Requests refused because all memory for clients was used',
};
const refusals = computed(() =>
  Object.entries({ ...budgets.value?.ended, ...budgets.value?.refused }).filter(([, times]) => times > 0),
);
const holders = computed(() => budgets.value?.holders.filter(({ heldBytes }) => heldBytes > 0) ?? []);
</script>

<template>
  <PageFrame title="Operations">
    <template #facts>
      <Tag v-if="metrics" color="success">version {{ metrics.version }}</Tag>
    </template>
    <template #tools>
      <Segmented v-model:value="span" size="small" :options="Object.keys(SPANS)" aria-label="Time span" />
    </template>
    <Alert v-if="failure" banner type="error" :message="failure" />
    <div v-if="metrics" class="page" tabindex="-1">
      <dl class="facts">
        <div v-for="{ name, value } in facts" :key="name">
          <dt>{{ name }}</dt>
          <dd>{{ value }}</dd>
        </div>
      </dl>
      <ClusterNodes v-if="inCluster" />
      <div class="plots">
        <TimePlot v-for="plot in plots" :key="plot.title" v-bind="plot" :times="times" />
      </div>
      <section aria-labelledby="budgets">
        <h2 id="budgets">Budgets</h2>
        <p v-if="holders.length === 0 && refusals.length === 0" class="muted">
          No client uses much memory, and nothing was refused since the service started.
        </p>
        <div v-else class="scroll" tabindex="0" role="region" aria-labelledby="budgets">
          <table class="plain">
            <thead>
              <tr>
                <th scope="col">Memory in use, and refusals</th>
                <th scope="col" class="numeric">Memory</th>
                <th scope="col" class="numeric">Times</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="{ holder, heldBytes } in holders" :key="holder">
                <td class="mono">{{ holder }}</td>
                <td class="numeric">{{ formatBytes(heldBytes) }}</td>
                <td />
              </tr>
              <tr v-for="[reason, often] in refusals" :key="reason">
                <td>{{ REASONS[reason] ?? reason }}</td>
                <td />
                <td class="numeric">{{ often.toLocaleString() }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
      <section aria-labelledby="slow">
        <h2 id="slow">Slow queries</h2>
        <p v-if="!queries || queries.queries.length === 0" class="muted">
          No query took 10 ms or more since the service started.
        </p>
        <div v-else class="scroll" tabindex="0" role="region" aria-labelledby="slow">
          <table class="plain">
            <thead>
              <tr>
                <th scope="col">Query, with the values used last</th>
                <th scope="col" class="numeric">Times</th>
                <th scope="col" class="numeric">Mean</th>
                <th scope="col" class="numeric">Slowest</th>
                <th scope="col" class="numeric">Read</th>
                <th scope="col" class="numeric">Returned</th>
                <th scope="col">Index</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="query in queries.queries" :key="`${query.from} ${query.where} ${query.order}`">
                <td>
                  <WatchedLink
                    class="query"
                    :watched="{
                      query: { from: query.from, where: query.where ?? undefined, order: query.order ?? undefined },
                    }"
                  />
                  <div v-if="query.advice" class="advice mono">suggested index: {{ query.advice }}</div>
                </td>
                <td class="numeric">{{ query.count.toLocaleString() }}</td>
                <td class="numeric">{{ formatMs(query.meanMs) }}</td>
                <td class="numeric">{{ formatMs(query.slowestMs) }}</td>
                <td class="numeric">{{ query.documentsRead?.toLocaleString() ?? 'streamed' }}</td>
                <td class="numeric">{{ query.documentsReturned.toLocaleString() }}</td>
                <td class="mono">{{ query.index ?? 'none' }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
      <section aria-labelledby="dear">
        <h2 id="dear">Watches by cost</h2>
        <p v-if="!views || views.views.length === 0" class="muted">There are no watches.</p>
        <div v-else class="scroll" tabindex="0" role="region" aria-labelledby="dear">
          <table class="plain">
            <thead>
              <tr>
                <th scope="col">Target</th>
                <th scope="col" class="numeric">Watchers</th>
                <th scope="col">Matched by</th>
                <th scope="col" class="numeric">Tests</th>
                <th scope="col" class="numeric">Changes</th>
                <th scope="col" class="numeric">Deliveries</th>
                <th scope="col" class="numeric">Sent</th>
                <th scope="col" class="numeric">Time spent</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="view in views.views" :key="view.view">
                <td><WatchedLink class="query" :watched="view" /></td>
                <td class="numeric">{{ view.watchers.toLocaleString() }}</td>
                <td :class="{ dear: view.matchedBy === 'every-change' && view.query?.where }">{{ view.matchedBy }}</td>
                <td class="numeric">{{ view.tested.toLocaleString() }}</td>
                <td class="numeric">{{ view.changed.toLocaleString() }}</td>
                <td class="numeric">{{ view.deliveries.toLocaleString() }}</td>
                <td class="numeric">{{ formatBytes(view.sentBytes) }}</td>
                <td class="numeric">{{ formatMs(view.milliseconds) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
    </div>
    <div v-else-if="!failure" class="nothing muted">Loading…</div>
  </PageFrame>
</template>

<style scoped>
h2 {
  margin: 20px 0 6px;
  font-size: 14px;
}
.page {
  flex: 1;
  min-height: 0;
  padding: 12px 16px 24px;
  overflow-y: auto;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 28px;
  margin: 0 0 12px;
}
dt {
  color: var(--ink-3);
  font-size: 11.5px;
}
dd {
  margin: 0;
  font-size: 14px;
  font-variant-numeric: tabular-nums;
}
.plots {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(440px, 100%), 1fr));
  gap: 12px;
}
.scroll {
  overflow-x: auto;
}
.plain :is(th, td):first-child {
  padding-left: 0;
}
.query {
  max-width: 460px;
}
.advice {
  color: var(--warn);
}
.dear {
  color: var(--warn);
}
</style>
