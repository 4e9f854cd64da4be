<script setup lang="ts">
import { ProblemError } from '@uproar/client';
import type { AccountInfo, PolicyDecision } from '@uproar/protocol';
import { Alert, Button, Input, Spin, Table } from 'ant-design-vue';
import { computed, onMounted, ref, shallowRef } from 'vue';
import { describeFailure } from '../shared/failure';
import { useStore } from '../shared/injection';
import { useFormDraft } from '../unsaved/use-form-draft';
import { useOnReconnect } from '../shared/use-on-reconnect';

const props = defineProps<{ collection: string; id: string }>();
const store = useStore();

const DOES = ['read', 'update', 'delete'] as const;
const MOST_ACCOUNTS = 40;
type Doing = (typeof DOES)[number];
interface Person {
  name: string;
  as: unknown;
  decisions: Partial<Record<Doing, PolicyDecision>>;
}

const people = shallowRef<Person[]>();
const failure = ref('');
const left = ref(0);
const { form } = useFormDraft('readers', { claims: '{"sub": "ada", "role": "crew"}' });
const claimsFault = ref('');
/** The conditions of the policy for a caller without claims. */
const rules = computed(() => DOES.map((rule) => ({ rule, condition: people.value?.[0]?.decisions[rule]?.condition })));

const COLUMNS = [
  { title: 'Who', dataIndex: 'name', key: 'name' },
  ...DOES.map((rule) => ({ title: `${rule}`, key: rule, width: 116 })),
  { title: 'Concealed fields', key: 'concealed' },
];

onMounted(read);
useOnReconnect(() => {
  if (failure.value !== '') void read();
});
async function read(): Promise<void> {
  failure.value = '';
  try {
    const { accounts } = await store.fetch<{ accounts: AccountInfo[] }>('/v1/accounts').catch((error: unknown) => {
      // A store may have no accounts at all.
      if (error instanceof ProblemError && error.problem.type.endsWith('/accounts-off')) return { accounts: [] };
      throw error;
    });
    const known = accounts.filter(({ disabled }) => !disabled);
    left.value = Math.max(0, known.length - MOST_ACCOUNTS);
    const asked: Person[] = [
      { name: 'anonymous', as: 'anonymous', decisions: {} },
      ...known.slice(0, MOST_ACCOUNTS).map(({ id, name, claims: of }) => ({
        name: `${name ?? `guest ${id.slice(-6)}`}${of.role ? ` (${String(of.role)})` : ''}`,
        as: { account: name ?? id },
        decisions: {},
      })),
    ];
    for (const person of asked) await decide(person);
    people.value = asked;
  } catch (error) {
    failure.value =
      error instanceof ProblemError && error.problem.status === 403
        ? 'You need a key with the scope “admin” to see this.'
        : describeFailure(error);
  }
}

async function decide(person: Person): Promise<void> {
  const { collection, id } = props;
  const attempts = DOES.map(async (rule) => {
    const body = { as: person.as, do: rule, collection, id, ...(rule === 'update' ? { merge: {} } : {}) };
    person.decisions[rule] = await store.post<PolicyDecision>('/v1/policy/try', body);
  });
  await Promise.all(attempts);
}

async function addSomebody(): Promise<void> {
  claimsFault.value = '';
  try {
    const person: Person = { name: form.claims, as: { claims: JSON.parse(form.claims) as unknown }, decisions: {} };
    await decide(person);
    people.value = [...(people.value ?? []).filter(({ name }) => name !== person.name), person];
  } catch (error) {
    claimsFault.value = error instanceof SyntaxError ? 'Claims are a JSON object.' : describeFailure(error);
  }
}
</script>

<template>
  <div class="readers">
    <Alert v-if="failure" type="warning" show-icon :message="failure" />
    <Spin v-else-if="!people" />
    <template v-else>
      <dl>
        <template v-for="{ rule, condition } in rules" :key="rule">
          <dt>{{ rule }}</dt>
          <dd class="mono">{{ condition ?? 'no rule: not allowed' }}</dd>
        </template>
      </dl>
      <p class="muted">Keys have the rights of their scope. The policy does not apply to them.</p>
      <Table
        size="small"
        row-key="name"
        :columns="COLUMNS"
        :data-source="people"
        :pagination="false"
        :scroll="{ x: 'max-content' }"
      >
        <template #bodyCell="{ column, record }">
          <span
            v-if="DOES.includes(column.key as Doing)"
            :class="record.decisions[column.key as Doing].allowed ? 'yes' : 'no'"
            >{{ record.decisions[column.key as Doing].allowed ? 'yes' : 'no' }}</span
          >
          <span v-else-if="column.key === 'concealed'" class="mono">{{
            record.decisions.read.allowed ? record.decisions.read.concealed.join(', ') : ''
          }}</span>
        </template>
      </Table>
      <p v-if="left > 0" class="muted">{{ left }} more accounts are not listed.</p>
      <form @submit.prevent="addSomebody">
        <Input
          v-model:value="form.claims"
          class="mono"
          aria-label="Claims as JSON"
          :status="claimsFault ? 'error' : ''"
        />
        <Button html-type="submit">Add these claims</Button>
      </form>
      <p v-if="claimsFault" class="no">{{ claimsFault }}</p>
    </template>
  </div>
</template>

<style scoped>
.readers {
  display: flex;
  flex-direction: column;
  gap: 12px;
}
dl {
  display: grid;
  grid-template-columns: 60px 1fr;
  gap: 2px 12px;
  margin: 0;
}
dt {
  color: var(--ink-3);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
p {
  margin: 0;
}
.yes {
  color: var(--live);
  font-weight: 600;
}
.no {
  color: var(--bad);
}
form {
  display: flex;
  gap: 8px;
}
</style>
