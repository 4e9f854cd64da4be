<script lang="ts">
/** A key that was just made and not put away yet. It is shown this once, so leaving the page does not take it away. */
const made = shallowRef<NewKey>();
</script>

<script setup lang="ts">
import type { KeyInfo, NewKey } from '@uproar/protocol';
import { Alert, Button, Input, Modal, Popconfirm, Table } from 'ant-design-vue';
import { onMounted, ref, shallowRef } from 'vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { useNotices, useStore } from '../shared/injection';
import { useFormDraft } from '../unsaved/use-form-draft';
import { formatMoment, useCall } from '../shared/use-call';

const store = useStore();
const notices = useNotices();
const { busy, failure, run } = useCall(load);
const keys = ref<KeyInfo[]>();
const { form, clear } = useFormDraft('new-key', {
  name: '',
  scope: 'read' as 'admin' | 'write' | 'read',
  collections: '',
  days: undefined as number | undefined,
});

const COLUMNS = [
  { title: 'Name', dataIndex: 'name' },
  { title: 'Scope', dataIndex: 'scope' },
  { title: 'Collections', key: 'collections' },
  { title: 'Created', key: 'created' },
  { title: 'Last used', key: 'used' },
  { title: 'Expires', key: 'expires' },
  { title: '', key: 'actions', align: 'right' as const },
];
const SCOPES = [
  { value: 'read', label: 'read: read all data' },
  { value: 'write', label: 'write: read and write all data' },
  { value: 'admin', label: 'admin: everything' },
];

onMounted(load);

async function load(): Promise<void> {
  const answer = await run(() => store.fetch<{ keys: KeyInfo[] }>('/v1/keys'));
  if (answer) keys.value = answer.keys;
}

async function create(): Promise<void> {
  const { name, scope, collections, days } = form;
  const wanted = {
    name: name.trim(),
    scope,
    ...(collections.trim() === '' ? {} : { collections: collections.split(',').map((part) => part.trim()) }),
    ...(days === undefined ? {} : { expires: new Date(Date.now() + days * 86_400_000).toISOString() }),
  };
  made.value = await run(() => store.post<NewKey>('/v1/keys', wanted));
  if (!made.value) return;
  clear();
  await load();
}

async function rotate(id: string): Promise<void> {
  made.value = await run(() => store.post<NewKey>(`/v1/keys/${id}/rotate`, { keepOldSeconds: 3600 }));
}

async function revoke(id: string, keyName: string): Promise<void> {
  if (await run(() => store.request('DELETE', `/v1/keys/${id}`))) {
    notices.success({ message: `“${keyName}” is revoked` });
    await load();
  }
}

async function copy(key: string): Promise<void> {
  await navigator.clipboard.writeText(key);
  notices.success({ message: 'Copied' });
}

const LIFETIMES = [
  { value: 1, label: '1 day' },
  { value: 30, label: '30 days' },
  { value: 365, label: '1 year' },
];
</script>

<template>
  <p class="muted lead">
    Keys are for servers and administrators. The policy does not apply to them. People and devices use tokens or
    accounts.
  </p>
  <form class="bar" @submit.prevent="create">
    <Input v-model:value="form.name" class="name" placeholder="gate-reader" aria-label="Name of the new key" />
    <ChoiceBox v-model:value="form.scope" class="scope" :options="SCOPES" aria-label="Scope" />
    <Input
      v-model:value="form.collections"
      class="name"
      placeholder="all collections"
      aria-label="Collections, with commas between them"
    />
    <ChoiceBox
      v-model:value="form.days"
      class="days"
      placeholder="never expires"
      aria-label="Expiry"
      :options="LIFETIMES"
    />
    <Button type="primary" html-type="submit" :loading="busy" :disabled="form.name.trim() === ''">Create key</Button>
  </form>
  <Alert v-if="failure" class="gap" type="error" :message="failure" />
  <Table
    class="gap"
    size="small"
    row-key="id"
    :columns="COLUMNS"
    :data-source="keys ?? []"
    :loading="keys === undefined"
    :pagination="false"
    :locale="{ emptyText: 'There are no keys except the one from UPROAR_ADMIN_KEY.' }"
  >
    <template #bodyCell="{ column, record }">
      <template v-if="column.key === 'collections'">{{ record.collections?.join(', ') ?? 'all' }}</template>
      <template v-else-if="column.key === 'created'">{{ formatMoment(record.created) }}</template>
      <template v-else-if="column.key === 'used'">{{ formatMoment(record.used) || 'never' }}</template>
      <template v-else-if="column.key === 'expires'">{{ formatMoment(record.expires) || 'never' }}</template>
      <template v-else-if="column.key === 'actions'">
        <Popconfirm title="Create a new secret? The old one stays valid for one hour." @confirm="rotate(record.id)">
          <Button type="link" size="small">Rotate</Button>
        </Popconfirm>
        <Popconfirm
          :title="`Revoke “${record.name}”? Its connections are closed.`"
          ok-type="danger"
          @confirm="revoke(record.id, record.name)"
        >
          <Button type="link" danger size="small">Revoke</Button>
        </Popconfirm>
      </template>
    </template>
  </Table>
  <Modal :open="made !== undefined" :title="`The key “${made?.name}”`" :closable="false" :mask-closable="false">
    <p>It is shown only once. Store it in a safe place.</p>
    <p class="mono secret">{{ made?.key }}</p>
    <template #footer>
      <Button @click="copy(made!.key)">Copy</Button>
      <Button type="primary" @click="made = undefined">Done</Button>
    </template>
  </Modal>
</template>

<style scoped>
.lead {
  margin: 0 0 10px;
}
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.name {
  width: 180px;
}
.scope {
  width: 230px;
}
.days {
  width: 140px;
}
.gap {
  margin-top: 12px;
}
.secret {
  padding: 8px;
  overflow-wrap: anywhere;
  background: var(--paper-2);
  border: 1px solid var(--line);
  border-radius: 5px;
  user-select: all;
}
</style>
