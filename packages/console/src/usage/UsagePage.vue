<script setup lang="ts">
import { formatBytes } from '@uproar/core';
import type { UsageReport, UsageRow } from '@uproar/protocol';
import { Alert, Button, Segmented, Tag } from 'ant-design-vue';
import { computed, ref } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import PageFrame from '../components/PageFrame.vue';
import { useStore } from '../shared/injection';
import { usePolled } from '../shared/use-polled';

/** What the service records in a minute does not change more often. */
const EVERY_MS = 15_000;
const DAY_MS = 86_400_000;
const GROUPS = {
  Identities: ['identity'],
  Collections: ['collection'],
  Both: ['identity', 'collection'],
  Days: ['day'],
} as const;
const SPANS = { Today: 1, '7 days': 7, '30 days': 30, All: 400 } as const;
const COLUMNS = [
  { name: 'requests', label: 'Requests', about: 'HTTP requests, and calls over WebSockets' },
  { name: 'reads', label: 'Reads', about: 'Documents read for answers, and for the first state of watches' },
  {
    name: 'examined',
    label: 'Examined',
    about: 'Documents that the store examined to answer. If this is far more than reads, an index is missing.',
  },
  { name: 'writes', label: 'Writes', about: 'Documents written by commits' },
  { name: 'deliveries', label: 'Deliveries', about: 'Events sent to watches, readers of the journal, and hooks' },
] as const;
/** From so many documents looked at for each one read, the number stands out. */
const WASTEFUL = 20;

const store = useStore();
const route = useRoute();
const router = useRouter();
const span = ref<keyof typeof SPANS>('7 days');
const identity = computed(() => textOf(route.query.identity));
const collection = computed(() => textOf(route.query.collection));
// Of one identity, its collections say more.
const group = ref<keyof typeof GROUPS>(identity.value === undefined ? 'Identities' : 'Collections');
const isFiltered = computed(() => identity.value !== undefined || collection.value !== undefined);

const address = computed(() => {
  const from = new Date(Date.now() - (SPANS[span.value] - 1) * DAY_MS).toISOString().slice(0, 10);
  const parameters = new URLSearchParams({ by: GROUPS[group.value].join(','), from, limit: '500' });
  if (identity.value !== undefined) parameters.set('identity', identity.value);
  if (collection.value !== undefined) parameters.set('collection', collection.value);
  return `/v1/usage?${parameters}`;
});
const { value: report, failure } = usePolled(
  EVERY_MS,
  () => store.fetch<UsageReport>(address.value),
  () => address.value,
);

const groups = computed(() => (['day', 'identity', 'collection'] as const).filter(isShown));
const isStored = computed(() => report.value?.rows.some(({ documents }) => documents !== undefined) ?? false);
const most = computed(() => Math.max(1, ...(report.value?.rows ?? []).map(({ sentBytes }) => sentBytes)));
const keyOf = (row: UsageRow) => [row.day, row.identity, row.collection].join(' ');
const count = (number = 0) => (number === 0 ? '–' : number.toLocaleString());
const bytes = (number = 0) => (number === 0 ? '–' : formatBytes(number));
const isWasteful = ({ reads, examined }: UsageRow) => examined > WASTEFUL * Math.max(1, reads) && examined > 1000;

function isShown(name: 'day' | 'identity' | 'collection'): boolean {
  return report.value?.rows.some((row) => row[name] !== undefined) ?? false;
}

function textOf(given: unknown): string | undefined {
  return typeof given === 'string' && given !== '' ? given : undefined;
}

/** Shows one identity by its collections, or one collection by its identities. */
function look(name: 'identity' | 'collection', value: string): void {
  void router.push({ name: 'usage', query: { ...route.query, [name]: value } });
  group.value = name === 'identity' ? 'Collections' : 'Identities';
}

function showAll(): void {
  void router.push({ name: 'usage' });
}
</script>

<template>
  <PageFrame title="Usage">
    <template #facts>
      <Tag v-if="identity !== undefined">{{ identity }}</Tag>
      <Tag v-if="collection !== undefined">{{ collection }}</Tag>
      <Button v-if="isFiltered" type="link" size="small" @click="showAll">Show all</Button>
      <span v-if="report && !isFiltered" class="muted">
        {{ report.from === report.to ? report.to : `${report.from} to ${report.to}` }} (UTC)
      </span>
    </template>
    <template #tools>
      <Segmented v-model:value="group" size="small" :options="Object.keys(GROUPS)" aria-label="Group by" />
      <Segmented v-model:value="span" size="small" :options="Object.keys(SPANS)" aria-label="Time span" />
    </template>
    <Alert v-if="failure" banner type="error" :message="failure" />
    <div v-if="!report && !failure" class="nothing muted">Loading…</div>
    <div v-else-if="report?.rows.length === 0" class="nothing">
      <b>Nothing was used</b>
      <p class="muted">Usage is recorded once a minute, and counted by day in UTC.</p>
    </div>
    <div v-else-if="report" class="table" tabindex="0" role="region" aria-label="Usage">
      <table class="plain pinned">
        <thead>
          <tr>
            <th v-for="name in groups" :key="name" scope="col">{{ name[0]!.toUpperCase() + name.slice(1) }}</th>
            <th v-for="{ name, label, about } in COLUMNS" :key="name" scope="col" class="numeric" :title="about">
              {{ label }}
            </th>
            <th scope="col" class="numeric" title="Bytes of answers and events">Sent</th>
            <th scope="col" class="share"><span class="hidden">Share</span></th>
            <template v-if="isStored">
              <th scope="col" class="numeric" title="At the end of the last day">Documents</th>
              <th scope="col" class="numeric" title="At the end of the last day">Stored</th>
            </template>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in report.rows" :key="keyOf(row)">
            <td v-if="row.day !== undefined" class="mono">{{ row.day }}</td>
            <td v-if="row.identity !== undefined">
              <button type="button" class="as-link" @click="look('identity', row.identity)">{{ row.identity }}</button>
            </td>
            <td v-if="row.collection !== undefined">
              <button v-if="row.collection" type="button" class="as-link" @click="look('collection', row.collection)">
                {{ row.collection }}
              </button>
              <span v-else class="muted" title="Requests that concern no collection, or several">no collection</span>
            </td>
            <td
              v-for="{ name } in COLUMNS"
              :key="name"
              class="numeric"
              :class="{ behind: name === 'examined' && isWasteful(row) }"
            >
              {{ count(row[name]) }}
            </td>
            <td class="numeric">{{ bytes(row.sentBytes) }}</td>
            <td class="share"><span class="bar" :style="{ width: `${(100 * row.sentBytes) / most}%` }" /></td>
            <template v-if="isStored">
              <td class="numeric">{{ count(row.documents) }}</td>
              <td class="numeric">{{ bytes(row.storedBytes) }}</td>
            </template>
          </tr>
        </tbody>
        <tfoot>
          <tr>
            <th scope="row" :colspan="groups.length">Total</th>
            <td v-for="{ name } in COLUMNS" :key="name" class="numeric">{{ count(report.total[name]) }}</td>
            <td class="numeric">{{ bytes(report.total.sentBytes) }}</td>
            <td />
            <template v-if="isStored">
              <td class="numeric">{{ count(report.total.documents) }}</td>
              <td class="numeric">{{ bytes(report.total.storedBytes) }}</td>
            </template>
          </tr>
        </tfoot>
      </table>
      <p v-if="report.more" class="muted note">Only the first 500 rows are shown.</p>
    </div>
  </PageFrame>
</template>

<style scoped>
.table {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
.behind {
  color: var(--warn);
}
td.share {
  padding-right: 16px;
}
.share {
  width: 140px;
  min-width: 60px;
}
.bar {
  display: block;
  height: 8px;
  border-radius: 2px;
  background: var(--live);
}
tfoot :is(th, td) {
  border-top: 1px solid var(--line);
  font-weight: 600;
  text-align: left;
}
tfoot .numeric {
  text-align: right;
}
.note {
  margin: 8px 16px;
}
</style>
