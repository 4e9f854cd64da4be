<script setup lang="ts">
import type { View } from '@uproar/client';
import { CHANGE_KINDS, type HookInfo, type NewHook } from '@uproar/protocol';
import { Alert, Button, Checkbox, CheckboxGroup, Drawer, Input, InputNumber } from 'ant-design-vue';
import { computed, toRefs } from 'vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { useStore } from '../shared/injection';
import { useCall } from '../shared/use-call';
import { useFormDraft } from '../unsaved/use-form-draft';

/** Writes a new hook, or changes of one. */
const props = defineProps<{ hook: HookInfo | undefined; collections: View | undefined }>();
const emit = defineEmits<{ done: [made: NewHook | undefined]; cancel: [] }>();
const store = useStore();
const { busy, failure, run } = useCall();

const before = props.hook;
const draft = useFormDraft(before ? `hook-${before.id}` : 'new-hook', {
  name: before?.name ?? '',
  collection: before?.collection ?? '',
  url: before?.url ?? '',
  where: before?.where ?? '',
  kinds: [...(before?.kinds ?? CHANGE_KINDS)] as string[],
  fields: before?.fields ?? '',
  format: before?.format ?? 'structured',
  governed: before?.claims !== undefined,
  claims: JSON.stringify(before?.claims ?? {}),
  parallel: before?.parallel ?? 8,
  timeoutSeconds: before?.timeoutSeconds ?? 15,
});

const written = draft.form;
// Inputs inside a drawer are bound one by one.
const { name, collection, url, where, kinds, fields, format, governed, parallel, timeoutSeconds } = toRefs(written);
const { claims: claimsText } = toRefs(written);

const names = computed(() => props.collections?.documents.map(({ id }) => ({ value: id, label: id })) ?? []);
const KINDS = CHANGE_KINDS.map((value) => ({ value, label: value }));
const FORMATS = [
  { value: 'structured', label: 'structured' },
  { value: 'binary', label: 'binary' },
];
const claims = computed(() => {
  try {
    return JSON.parse(written.claims) as object;
  } catch {
    return undefined;
  }
});
const complete = computed(
  () =>
    written.name.trim() !== '' &&
    written.collection !== '' &&
    written.url.trim() !== '' &&
    written.kinds.length > 0 &&
    (!written.governed || claims.value !== undefined),
);

async function send(): Promise<void> {
  const { name, collection, url, kinds, format, parallel, timeoutSeconds } = written;
  const optional = {
    where: written.where.trim() || null,
    fields: written.fields.trim() || null,
    claims: written.governed ? claims.value! : null,
  };
  const definition = { collection, url: url.trim(), kinds, format, parallel, timeoutSeconds, ...optional };
  const given = Object.fromEntries(Object.entries(definition).filter(([, value]) => value !== null));
  const answer = before
    ? await run(() => store.request('PATCH', `/v1/hooks/${before.id}`, definition))
    : await run(() => store.post<NewHook>('/v1/hooks', { name: name.trim(), ...given }));
  if (!answer) return;
  draft.clear();
  emit('done', before ? undefined : (answer as NewHook));
}
</script>

<template>
  <Drawer
    open
    :title="hook ? `Change the hook “${hook.name}”` : 'New hook'"
    :width="520"
    root-class-name="hook-form"
    @close="emit('cancel')"
  >
    <form @submit.prevent="send">
      <label v-if="!hook" class="field">Name<Input v-model:value="name" placeholder="landings" /></label>
      <label class="field"
        >Collection<ChoiceBox v-model:value="collection" placeholder="choose…" :options="names"
      /></label>
      <label class="field"
        >Address<Input v-model:value="url" class="mono" placeholder="https://radio.example/landings" />
        <small class="muted">Changes are posted to it. By https, unless a setting names its network.</small>
      </label>
      <div class="field">
        <span>Kinds of change</span>
        <CheckboxGroup v-model:value="kinds" :options="KINDS" />
      </div>
      <label class="field"
        >Condition<Input v-model:value="where" class="mono" placeholder="all documents: status = 'landed'" />
        <small class="muted">The document meets it before or after the change.</small>
      </label>
      <label class="field"
        >Fields<Input v-model:value="fields" class="mono" placeholder="all fields: status,landedAt" />
      </label>
      <div class="field">
        <Checkbox v-model:checked="governed">Only what the policy lets these claims read</Checkbox>
        <Input v-if="governed" v-model:value="claimsText" class="mono" aria-label="Claims as JSON" />
        <small v-if="governed && !claims" class="bad">These claims are not JSON.</small>
        <small v-else-if="!governed" class="muted">Without this, it delivers everything in the collection.</small>
      </div>
      <div class="row">
        <label class="field">Format<ChoiceBox v-model:value="format" :options="FORMATS" /></label>
        <label class="field">In parallel<InputNumber v-model:value="parallel" :min="1" :max="32" /></label>
        <label class="field">Seconds to answer<InputNumber v-model:value="timeoutSeconds" :min="1" :max="60" /></label>
      </div>
      <Alert v-if="failure" type="error" :message="failure" />
      <div class="buttons">
        <Button @click="emit('cancel')">Cancel</Button>
        <Button type="primary" html-type="submit" :loading="busy" :disabled="!complete">{{
          hook ? 'Save' : 'Create hook'
        }}</Button>
      </div>
    </form>
  </Drawer>
</template>

<style scoped>
form {
  display: flex;
  flex-direction: column;
  gap: 14px;
}

.field {
  display: flex;
  flex-direction: column;
  gap: 4px;
  font-weight: 500;
}
small {
  font-weight: 400;
}
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 14px;
}
.row :deep(.ant-input-number) {
  width: 110px;
}
.bad {
  color: var(--bad);
}
.buttons {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
}
</style>
