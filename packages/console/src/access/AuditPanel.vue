<script setup lang="ts">
import type { AuditEntry } from '@uproar/protocol';
import { Alert, Button, Table } from 'ant-design-vue';
import { onMounted, ref, watch } from 'vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { useStore } from '../shared/injection';
import { formatMoment, useCall } from '../shared/use-call';

const PAGE = 100;
const EVENTS = [
  'sign-in',
  'sign-in-failed',
  'refused',
  'not-recognised',
  'policy-changed',
  'key-created',
  'key-rotated',
  'key-revoked',
  'account-created',
  'account-changed',
  'account-removed',
  'password-changed',
  'hook-created',
  'hook-changed',
  'hook-paused',
  'hook-resumed',
  'hook-rotated',
  'hook-removed',
  'refresh-reused',
  'connection-ended',
];
const store = useStore();
const { busy, failure, run } = useCall(() => load());
const entries = ref<AuditEntry[]>();
const event = ref<string>();
const more = ref(false);

const COLUMNS = [
  { title: 'When', key: 'time', width: 170 },
  { title: 'Event', dataIndex: 'event', width: 130 },
  { title: 'Identity', dataIndex: 'identity', ellipsis: true, width: 150 },
  { title: 'From', dataIndex: 'address', width: 110 },
  { title: 'Times', dataIndex: 'count', align: 'right' as const, width: 70 },
  { title: 'Detail', key: 'detail' },
];

onMounted(() => load());
watch(event, () => load());

/** Counts the readings, so that only the answer to the last one is shown. */
let turn = 0;
async function load(before?: number): Promise<void> {
  const mine = ++turn;
  const query = new URLSearchParams({ limit: String(PAGE) });
  if (before !== undefined) query.set('before', String(before));
  if (event.value !== undefined) query.set('event', event.value);
  const answer = await run(() => store.fetch<{ entries: AuditEntry[] }>(`/v1/audit?${query}`));
  if (!answer || mine !== turn) return;
  entries.value = before === undefined ? answer.entries : [...(entries.value ?? []), ...answer.entries];
  more.value = answer.entries.length === PAGE;
}

function describe(detail: Record<string, unknown>): string {
  const { to, detail: text, problem, ...rest } = detail;
  return [to, text ?? problem, ...Object.entries(rest).map(([name, value]) => `${name} ${String(value)}`)]
    .filter((part) => part !== undefined)
    .join(' · ');
}
</script>

<template>
  <div class="bar">
    <ChoiceBox
      v-model:value="event"
      class="event"
      placeholder="all events"
      aria-label="Kind of event"
      :options="EVENTS.map((value) => ({ value, label: value }))"
    />
    <Button :loading="busy" @click="load()">Refresh</Button>
    <span class="muted">Sign-ins, refused requests and administrative changes, the newest first.</span>
  </div>
  <Alert v-if="failure" class="gap" type="error" :message="failure" />
  <Table
    class="gap"
    size="small"
    row-key="number"
    :columns="COLUMNS"
    :data-source="entries ?? []"
    :loading="entries === undefined"
    :pagination="false"
    :locale="{ emptyText: 'There are no entries.' }"
  >
    <template #bodyCell="{ column, record }">
      <template v-if="column.key === 'time'">{{ formatMoment(record.time) }}</template>
      <span v-else-if="column.key === 'detail'" class="detail">{{ describe(record.detail) }}</span>
    </template>
  </Table>
  <Button v-if="more" class="gap" :loading="busy" @click="load(entries!.at(-1)!.number)">Show more</Button>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.event {
  width: 190px;
}
.gap {
  margin-top: 12px;
}
.detail {
  overflow-wrap: anywhere;
}
</style>
