<script setup lang="ts">
import { ProblemError, type Document, type View } from '@uproar/client';
import type { PolicyDecision } from '@uproar/protocol';
import { Alert, Button, Input, RadioButton, RadioGroup, Textarea } from 'ant-design-vue';
import { computed, onBeforeUnmount, ref, toRefs, watch } from 'vue';
import { useRoute } from 'vue-router';
import ChoiceBox from '../components/ChoiceBox.vue';
import { findFields, formatCell, valueAt } from '../table/fields';
import { useStore } from '../shared/injection';
import { useFormDraft } from '../unsaved/use-form-draft';
import { useCall } from '../shared/use-call';

const props = defineProps<{ collections: View | undefined; text: string | undefined }>();
const store = useStore();
const { busy, failure, run } = useCall();

const PREVIEW_AFTER_MS = 300;
const MOST_SHOWN = 50;
const { form } = useFormDraft('try-policy', {
  who: 'claims' as 'claims' | 'account' | 'anonymous',
  claims: '{"sub": "ada", "role": "crew", "crew": "c-2"}',
  account: '',
  collection: undefined as string | undefined,
  rule: 'read' as 'read' | 'create' | 'update' | 'delete',
  id: '',
  data: '',
});
// The identity that another page asks about.
const route = useRoute();
if (typeof route.query.account === 'string') {
  Object.assign(form, { who: route.query.account === '' ? 'anonymous' : 'account', account: route.query.account });
}
const { who, claims, collection, rule, id, data } = toRefs(form);
/** The chosen account: the text after Enter or when the input loses focus. */
const account = ref(form.account);
const decision = ref<PolicyDecision>();
const seen = ref<{ documents: Document[]; more: boolean }>();
const previewProblem = ref('');

const names = computed(() =>
  (props.collections?.documents ?? []).map(({ id: name }) => ({ value: name, label: name })),
);
watch(names, ([first]) => (collection.value ??= first?.value), { immediate: true });
const columns = computed(() => findFields(seen.value?.documents ?? [], new Set()).slice(0, 6));
const total = computed(
  () =>
    props.collections?.documents.find((other) => other.id === collection.value)?.data.documents as number | undefined,
);
const writes = computed(() => rule.value === 'create' || rule.value === 'update');

/** The identity to try; undefined while the input is invalid. */
const as = computed(() => {
  if (who.value === 'anonymous') return 'anonymous';
  if (who.value === 'account') return account.value === '' ? undefined : { account: account.value };
  try {
    return { claims: JSON.parse(claims.value) as object };
  } catch {
    return undefined;
  }
});

// The preview follows the policy, the identity, and the writes to the collection.
const version = computed(() => props.collections?.documents.find((other) => other.id === collection.value)?.version);
let timer: ReturnType<typeof setTimeout> | undefined;
/** Whether an input of the preview changed, and not only the collection. */
let changed = false;
let previewing = false;
function later(byPerson: boolean): void {
  changed ||= byPerson;
  // Each keystroke postpones the preview. Writes to the collection do not, or else it would never run while many arrive.
  if (byPerson) {
    clearTimeout(timer);
    timer = undefined;
  }
  timer ??= setTimeout(() => {
    timer = undefined;
    if (!changed && previewing) return later(false);
    // A refused preview stays refused when the collection changes.
    if (changed || previewProblem.value === '') void preview();
    changed = false;
  }, PREVIEW_AFTER_MS);
}
watch([as, collection, () => props.text], () => later(true), { immediate: true });
watch(version, () => later(false));
onBeforeUnmount(() => clearTimeout(timer));

let turn = 0;
async function preview(): Promise<void> {
  if (as.value === undefined || collection.value === undefined || props.text === undefined) return;
  const body = { as: as.value, collection: collection.value, limit: MOST_SHOWN, text: props.text };
  const mine = ++turn;
  previewing = true;
  try {
    const found = await store.post<typeof seen.value>('/v1/policy/preview', body);
    if (mine !== turn) return;
    seen.value = found;
    previewProblem.value = '';
  } catch (error) {
    // After a lost connection, the last preview stays until the next change.
    if (mine !== turn || !(error instanceof ProblemError)) return;
    seen.value = undefined;
    previewProblem.value = error.problem.detail;
  } finally {
    if (mine === turn) previewing = false;
  }
}

async function tryIt(): Promise<void> {
  decision.value = undefined;
  decision.value = await run(() =>
    store.post<PolicyDecision>('/v1/policy/try', {
      as: as.value,
      do: rule.value,
      collection: collection.value,
      id: id.value || undefined,
      text: props.text,
      ...(data.value === '' || !writes.value
        ? {}
        : { [rule.value === 'create' ? 'data' : 'merge']: JSON.parse(data.value) as object }),
    }),
  );
}

const dataFault = computed(() => {
  if (data.value === '' || !writes.value) return false;
  try {
    JSON.parse(data.value);
    return false;
  } catch {
    return true;
  }
});
const TRUTH = { true: 'yes', false: 'no', null: 'unknown' };
</script>

<template>
  <section class="try" aria-label="Try the policy">
    <h2>Preview as</h2>
    <div class="row wrap">
      <RadioGroup v-model:value="who" size="small">
        <RadioButton value="claims">Claims</RadioButton>
        <RadioButton value="account">Account</RadioButton>
        <RadioButton value="anonymous">Anonymous</RadioButton>
      </RadioGroup>
      <Input
        v-if="who === 'claims'"
        v-model:value="claims"
        class="mono whole"
        spellcheck="false"
        aria-label="Claims as JSON"
        :status="as === undefined ? 'error' : ''"
      />
      <Input
        v-else-if="who === 'account'"
        v-model:value="form.account"
        class="grow"
        placeholder="ada"
        aria-label="Name of the account"
        @press-enter="account = form.account.trim()"
        @blur="account = form.account.trim()"
      />
      <span v-else class="muted grow">A caller without a key or token.</span>
    </div>
    <div class="row">
      <label for="try-collection">in</label>
      <ChoiceBox id="try-collection" v-model:value="collection" class="grow" :options="names" />
    </div>

    <h2>
      Visible documents
      <span v-if="seen" class="muted">
        {{ seen.documents.length }}{{ seen.more ? '+' : '' }} of {{ total ?? '?' }} documents, live
      </span>
    </h2>
    <Alert v-if="previewProblem" type="warning" :message="previewProblem" />
    <div v-else-if="seen && seen.documents.length === 0" class="nothing muted">No documents.</div>
    <div v-else-if="seen" class="table" tabindex="0" role="region" aria-label="Visible documents">
      <table>
        <thead>
          <tr>
            <th scope="col">id</th>
            <th v-for="{ name, numeric } in columns" :key="name" scope="col" :class="{ numeric }">{{ name }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="document in seen.documents" :key="document.id">
            <td>{{ document.id }}</td>
            <td v-for="{ name, path, numeric } in columns" :key="name" :class="{ numeric }">
              {{ formatCell(valueAt(document.data, path)) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <div v-else class="nothing muted">Loading…</div>

    <h2>Test a request</h2>
    <form class="row wrap" @submit.prevent="tryIt">
      <ChoiceBox
        v-model:value="rule"
        aria-label="Action"
        class="rule"
        :options="['read', 'create', 'update', 'delete'].map((value) => ({ value, label: value }))"
      />
      <Input v-model:value="id" class="id" placeholder="id" aria-label="Id of the document" />
      <Textarea
        v-if="writes"
        v-model:value="data"
        class="mono data"
        :rows="1"
        :status="dataFault ? 'error' : ''"
        :placeholder="rule === 'create' ? 'its data: {…}' : 'changes to merge: {…}'"
        aria-label="Data as JSON"
      />
      <Button html-type="submit" :loading="busy" :disabled="as === undefined || dataFault">Try</Button>
    </form>
    <Alert v-if="failure" type="error" :message="failure" />
    <div v-if="decision" class="decision" :class="{ allowed: decision.allowed }" role="status">
      <b>{{ decision.allowed ? 'Allowed' : 'Refused' }}</b>
      <span v-if="decision.condition === null"> There is no rule “{{ decision.rule }}”, so it is not allowed.</span>
      <template v-else>
        by <span class="mono">{{ decision.pointer }}</span>
        <ul>
          <li v-for="part in decision.parts" :key="part.condition">
            <span class="truth" :class="TRUTH[String(part.truth) as keyof typeof TRUTH]">{{
              TRUTH[String(part.truth) as keyof typeof TRUTH]
            }}</span>
            <span class="mono">{{ part.condition }}</span>
          </li>
        </ul>
        <div v-for="(value, name) in decision.values" :key="name" class="mono saw">
          {{ name }} = {{ JSON.stringify(value) }}
        </div>
      </template>
    </div>
  </section>
</template>

<style scoped>
.try {
  display: flex;
  flex-direction: column;
  gap: 8px;
  min-height: 0;
}
h2 {
  margin: 4px 0 0;
  font-size: 13px;
  font-weight: 650;
}
h2 .muted {
  font-weight: 400;
}
.row {
  display: flex;
  gap: 8px;
  align-items: center;
}
.wrap {
  flex-wrap: wrap;
  align-items: flex-start;
}
.grow {
  flex: 1;
  min-width: 0;
}
.row .whole {
  flex-basis: 100%;
}
.rule {
  width: 100px;
}
.id {
  width: 110px;
}
.data {
  flex: 1;
  min-width: 160px;
}
.table {
  flex: 1;
  min-height: 90px;
  overflow: auto;
  border: 1px solid var(--line);
  border-radius: 5px;
}
table {
  border-collapse: collapse;
  font-size: 12px;
  white-space: nowrap;
}
th,
td {
  padding: 3px 10px;
  text-align: left;
  max-width: 220px;
  overflow: hidden;
  text-overflow: ellipsis;
}
th {
  position: sticky;
  top: 0;
  background: var(--paper-2);
  color: var(--ink-2);
  font-weight: 600;
}
td {
  border-top: 1px solid var(--line);
}
.numeric {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
.nothing {
  flex: 1;
  padding: 12px;
  border: 1px dashed var(--line);
  border-radius: 5px;
}
.decision {
  padding: 8px 10px;
  border-radius: 5px;
  background: var(--bad-soft);
}
.decision.allowed {
  background: var(--live-soft);
}
.decision > b {
  color: var(--bad);
}
.decision.allowed > b {
  color: var(--live);
}
ul {
  margin: 4px 0;
  padding: 0;
  list-style: none;
}
.truth {
  display: inline-block;
  width: 62px;
  font-weight: 600;
}
.saw {
  color: var(--ink-2);
}
</style>
