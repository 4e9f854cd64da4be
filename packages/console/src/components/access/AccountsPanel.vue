<script setup lang="ts">
import type { AccountInfo } from '@uproar/protocol';
import { Alert, Button, Input, InputPassword, Modal, Popconfirm, Table, Tag, Textarea } from 'ant-design-vue';
import { computed, onMounted, ref } from 'vue';
import { useNotices, useStore } from '../../injection';
import { formatMoment, useCall } from './use-call';

const PAGE = 100;
const store = useStore();
const notices = useNotices();
const { busy, failure, run } = useCall();
const accounts = ref<AccountInfo[]>();
const more = ref(false);
const name = ref('');
const password = ref('');
const claims = ref('');
/** The account whose claims are being edited. */
const edited = ref<AccountInfo>();
const editedClaims = ref('');

const COLUMNS = [
  { title: 'Name', key: 'name' },
  { title: 'Id', key: 'id' },
  { title: 'Claims', key: 'claims' },
  { title: 'Created', key: 'created' },
  { title: '', key: 'actions', align: 'right' as const },
];

onMounted(() => load());

async function load(after = ''): Promise<void> {
  const answer = await run(() =>
    store.fetch<{ accounts: AccountInfo[] }>(`/v1/accounts?limit=${PAGE}&after=${encodeURIComponent(after)}`),
  );
  if (!answer) return;
  accounts.value = after === '' ? answer.accounts : [...(accounts.value ?? []), ...answer.accounts];
  more.value = answer.accounts.length === PAGE;
}

async function create(): Promise<void> {
  const form = { name: name.value.trim(), password: password.value, claims: readClaims(claims.value) };
  if (!(await run(() => store.post<AccountInfo>('/v1/accounts', form)))) return;
  [name.value, password.value, claims.value] = ['', '', ''];
  await load();
}

async function alter(id: string, change: object): Promise<boolean> {
  const altered = await run(() => store.request('PATCH', `/v1/accounts/${id}`, change));
  if (altered) await load();
  return altered !== undefined;
}

async function saveClaims(): Promise<void> {
  if (!(await alter(edited.value!.id, { claims: readClaims(editedClaims.value) ?? {} }))) return;
  notices.success({ message: 'The claims are altered', description: 'Its open views follow at once.' });
  edited.value = undefined;
}

async function remove(id: string): Promise<void> {
  if (await run(() => store.request('DELETE', `/v1/accounts/${id}`))) await load();
}

function edit(account: AccountInfo): void {
  edited.value = account;
  editedClaims.value = JSON.stringify(account.claims, null, 2);
}

function readClaims(text: string): object | undefined {
  return text.trim() === '' ? undefined : (JSON.parse(text) as object);
}

function isFaulty(text: string): boolean {
  try {
    readClaims(text);
    return false;
  } catch {
    return true;
  }
}
const faulty = computed(() => isFaulty(claims.value));
const editedFaulty = computed(() => isFaulty(editedClaims.value));
</script>

<template>
  <p class="muted lead">
    Accounts of people and devices, for those who have no identity provider. What is said of them here is what
    <span class="mono">claim()</span> reads in the policy.
  </p>
  <form class="bar" @submit.prevent="create">
    <Input
      v-model:value="name"
      class="name"
      placeholder="ada"
      autocomplete="off"
      aria-label="Name of the new account"
    />
    <InputPassword
      v-model:value="password"
      class="name"
      placeholder="password"
      autocomplete="new-password"
      aria-label="Its password"
    />
    <Input
      v-model:value="claims"
      class="claims mono"
      :status="faulty ? 'error' : ''"
      placeholder='{"role": "crew", "crew": "c-2"}'
      aria-label="What the policy is to know of it, as JSON"
    />
    <Button
      type="primary"
      html-type="submit"
      :loading="busy"
      :disabled="name.trim() === '' || password.length < 8 || faulty"
      >Make an account</Button
    >
  </form>
  <Alert v-if="failure" class="gap" type="error" :message="failure" />
  <Table
    class="gap"
    size="small"
    row-key="id"
    :columns="COLUMNS"
    :data-source="accounts ?? []"
    :loading="accounts === undefined"
    :pagination="false"
    :locale="{ emptyText: 'There are no accounts.' }"
  >
    <template #bodyCell="{ column, record }">
      <template v-if="column.key === 'name'">
        {{ record.name }}<span v-if="record.guest" class="muted">guest</span>
        <Tag v-if="record.disabled" color="warning">disabled</Tag>
      </template>
      <span v-else-if="column.key === 'id'" class="mono">{{ record.id }}</span>
      <span v-else-if="column.key === 'claims'" class="mono">{{ JSON.stringify(record.claims) }}</span>
      <template v-else-if="column.key === 'created'">{{ formatMoment(record.created) }}</template>
      <template v-else-if="column.key === 'actions'">
        <Button type="link" size="small" @click="edit(record as AccountInfo)">Claims</Button>
        <Button type="link" size="small" @click="alter(record.id, { disabled: !record.disabled })">{{
          record.disabled ? 'Enable' : 'Disable'
        }}</Button>
        <Popconfirm title="Remove the account? What it wrote stays." ok-type="danger" @confirm="remove(record.id)">
          <Button type="link" danger size="small">Remove</Button>
        </Popconfirm>
      </template>
    </template>
  </Table>
  <Button v-if="more" class="gap" @click="load(accounts!.at(-1)!.id)">Show more</Button>
  <Modal
    :open="edited !== undefined"
    :title="`What the policy knows of ${edited?.name ?? 'this guest'}`"
    ok-text="Save"
    :ok-button-props="{ disabled: editedFaulty }"
    @ok="saveClaims"
    @cancel="edited = undefined"
  >
    <Textarea
      v-model:value="editedClaims"
      class="mono"
      :rows="8"
      :status="editedFaulty ? 'error' : ''"
      aria-label="Claims as JSON"
    />
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
  width: 170px;
}
.claims {
  flex: 1;
  min-width: 220px;
}
.gap {
  margin-top: 12px;
}
</style>
