<script lang="ts">
/** The password of an account that is about to be made: kept while the page is left, and never in the browser's storage. */
const password = ref('');
</script>

<script setup lang="ts">
import type { AccountInfo } from '@uproar/protocol';
import { Alert, Button, Input, InputPassword, Modal, Popconfirm, Table, Tag, Textarea } from 'ant-design-vue';
import { computed, onMounted, ref } from 'vue';
import { useNotices, useStore } from '../shared/injection';
import { useFormDraft } from '../unsaved/use-form-draft';
import { formatMoment, useCall } from '../shared/use-call';

const PAGE = 100;
const store = useStore();
const notices = useNotices();
const { busy, failure, run } = useCall(() => load());
const accounts = ref<AccountInfo[]>();
const more = ref(false);
const { form, clear } = useFormDraft('new-account', { name: '', claims: '' });
/** The edited claims: the account, and the text. */
const claimsEdit = useFormDraft('account-claims', { id: '', name: '', text: '' });
const edited = claimsEdit.form;

const COLUMNS = [
  { title: 'Name', key: 'name' },
  { title: 'Id', key: 'id' },
  { title: 'Claims', key: 'claims' },
  { title: 'Created', key: 'created' },
  { title: '', key: 'actions', align: 'right' as const },
];

onMounted(() => load());

/** Counts the readings, so that only the answer to the last one is shown. */
let turn = 0;
async function load(after = ''): Promise<void> {
  const mine = ++turn;
  const answer = await run(() =>
    store.fetch<{ accounts: AccountInfo[] }>(`/v1/accounts?limit=${PAGE}&after=${encodeURIComponent(after)}`),
  );
  if (!answer || mine !== turn) return;
  accounts.value = after === '' ? answer.accounts : [...(accounts.value ?? []), ...answer.accounts];
  more.value = answer.accounts.length === PAGE;
}

async function create(): Promise<void> {
  const wanted = { name: form.name.trim(), password: password.value, claims: readClaims(form.claims) };
  if (!(await run(() => store.post<AccountInfo>('/v1/accounts', wanted)))) return;
  clear();
  password.value = '';
  await load();
}

async function alter(id: string, change: object): Promise<boolean> {
  const altered = await run(() => store.request('PATCH', `/v1/accounts/${id}`, change));
  if (altered) await load();
  return altered !== undefined;
}

async function saveClaims(): Promise<void> {
  if (!(await alter(edited.id, { claims: readClaims(edited.text) ?? {} }))) return;
  notices.success({ message: 'The claims are changed', description: 'They apply to its open watches at once.' });
  claimsEdit.clear();
}

async function remove(id: string): Promise<void> {
  if (await run(() => store.request('DELETE', `/v1/accounts/${id}`))) await load();
}

function edit(account: AccountInfo): void {
  const { id, name = 'this guest', claims } = account;
  Object.assign(edited, { id, name, text: JSON.stringify(claims, null, 2) });
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
const faulty = computed(() => isFaulty(form.claims));
const editedFaulty = computed(() => isFaulty(edited.text));
</script>

<template>
  <p class="muted lead">
    Accounts of people and devices, for stores without an identity provider. The policy reads their claims with
    <span class="mono">claim()</span>.
  </p>
  <form class="bar" @submit.prevent="create">
    <Input
      v-model:value="form.name"
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
      v-model:value="form.claims"
      class="claims mono"
      :status="faulty ? 'error' : ''"
      placeholder='{"role": "crew", "crew": "c-2"}'
      aria-label="Its claims, as JSON"
    />
    <Button
      type="primary"
      html-type="submit"
      :loading="busy"
      :disabled="form.name.trim() === '' || password.length < 8 || faulty"
      >Create account</Button
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
        <Popconfirm title="Remove this account? Its documents are kept." ok-type="danger" @confirm="remove(record.id)">
          <Button type="link" danger size="small">Remove</Button>
        </Popconfirm>
      </template>
    </template>
  </Table>
  <Button v-if="more" class="gap" :loading="busy" @click="load(accounts!.at(-1)!.id)">Show more</Button>
  <Modal
    :open="edited.id !== ''"
    :title="`Claims of ${edited.name}`"
    ok-text="Save"
    :ok-button-props="{ disabled: editedFaulty }"
    :mask-closable="false"
    :confirm-loading="busy"
    @ok="saveClaims"
    @cancel="claimsEdit.clear()"
  >
    <Textarea
      v-model:value="edited.text"
      class="mono"
      :rows="8"
      :status="editedFaulty ? 'error' : ''"
      aria-label="Claims as JSON"
    />
    <Alert v-if="failure" class="gap" type="error" :message="failure" />
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
