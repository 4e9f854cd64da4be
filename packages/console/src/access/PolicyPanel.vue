<script setup lang="ts">
import type { View } from '@uproar/client';
import type { PolicyVersion } from '@uproar/protocol';
import { Alert, Button, Input, Popconfirm, Tag } from 'ant-design-vue';
import { computed, defineAsyncComponent, ref } from 'vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { useNotices, useStore } from '../shared/injection';
import TryPanel from './TryPanel.vue';
import { formatMoment, useCall } from '../shared/use-call';
import { usePolicyEdit } from './use-policy-edit';

const CodeEditor = defineAsyncComponent(() => import('../components/CodeEditor.vue'));
const CompareEditor = defineAsyncComponent(() => import('../components/CompareEditor.vue'));
defineProps<{ collections: View | undefined }>();
const notices = useNotices();
const { busy, failure, run } = useCall();
const edit = usePolicyEdit(useStore());
const { text, note, inForce, versions, base, altered, own, overtaken, fault, warnings, sound, take } = edit;

/** The version that is compared with the edited text; undefined if there is none. */
const compared = ref<number>();
const beside = computed(() => [inForce.value, ...versions.value].find((one) => one?.version === compared.value));
const shown = computed(() =>
  own.value ? 'own' : String(versions.value.find((version) => version.text === text.value)?.version ?? 'own'),
);
const choices = computed(() => [
  ...(own.value ? [{ value: 'own', label: `Your edits of version ${base.value?.version ?? 0}` }] : []),
  ...versions.value.map((version) => ({ value: String(version.version), label: describe(version) })),
]);

function describe({ version, time, note: why }: PolicyVersion): string {
  const force = version === inForce.value?.version ? ', in force' : '';
  return `Version ${version}${force} · ${formatMoment(time)}${why ? ` · ${why}` : ''}`;
}

/** Shows a version in the editor, or next to it if the editor has unsaved text. */
function choose(choice: string): void {
  const version = versions.value.find((one) => String(one.version) === choice);
  if (!own.value && version) take(version);
  else compared.value = version?.version;
}

function takeInstead(version: PolicyVersion): void {
  take(version);
  compared.value = undefined;
}

async function setInForce(): Promise<void> {
  const answer = await run(() => edit.putInForce());
  if (!answer) return;
  compared.value = undefined;
  notices.success({
    message: `Version ${answer.version} is in force`,
    description: 'It applies to open watches at once.',
  });
}
</script>

<template>
  <div class="panel" :class="{ comparing: beside }">
    <section class="edit" aria-label="Policy">
      <div class="bar">
        <ChoiceBox
          v-if="versions.length > 0"
          :value="beside ? String(beside.version) : shown"
          class="versions"
          :options="choices"
          aria-label="Version of the policy"
          @change="(value) => choose(String(value))"
        />
        <span v-else class="muted versions">No policy is set: nothing is allowed to anybody but keys.</span>
        <Tag v-if="fault" color="error">invalid</Tag>
        <Tag v-else-if="altered" color="warning">not in force</Tag>
        <Tag v-else color="success">in force</Tag>
      </div>
      <Alert v-if="overtaken && inForce && base" type="warning" show-icon role="alert">
        <template #message
          >{{ inForce.identity }} put version {{ inForce.version }} in force at {{ formatMoment(inForce.time) }}, while
          you edited version {{ base.version }}.</template
        >
        <template #description>
          <div class="choices">
            <Button v-if="!beside" size="small" @click="compared = inForce.version">Compare</Button>
            <Button size="small" @click="edit.continueEditing">Continue with yours</Button>
            <Popconfirm title="Discard your edits?" ok-text="Discard" @confirm="takeInstead(inForce)">
              <Button size="small" type="text">Take version {{ inForce.version }}</Button>
            </Popconfirm>
          </div>
        </template>
      </Alert>
      <template v-if="beside">
        <CompareEditor
          v-model="text"
          class="editor"
          language="yaml"
          :other="beside.text"
          :other-label="describe(beside)"
          label="Yours, to be edited"
        />
        <div class="choices">
          <Popconfirm title="Discard your edits?" ok-text="Discard" @confirm="takeInstead(beside)">
            <Button size="small">Take version {{ beside.version }} instead</Button>
          </Popconfirm>
          <Button size="small" type="text" @click="compared = undefined">End the comparison</Button>
        </div>
      </template>
      <CodeEditor v-else v-model="text" language="yaml" label="The policy in YAML" class="editor" @save="setInForce" />
      <div class="notes" role="status">
        <Alert v-if="failure || edit.failure.value" type="error" :message="failure || edit.failure.value" />
        <Alert v-if="fault" type="error" :message="fault" />
        <Alert v-for="{ pointer, message } in warnings" :key="pointer + message" type="warning">
          <template #message
            ><span class="mono">{{ pointer }}</span> {{ message }}</template
          >
        </Alert>
      </div>
      <div class="bar">
        <Input v-model:value="note" placeholder="Note (optional)" aria-label="Note" />
        <Button :disabled="!altered" @click="inForce && takeInstead(inForce)">Discard</Button>
        <Button type="primary" :disabled="!altered || fault !== '' || overtaken" :loading="busy" @click="setInForce"
          >Put in force</Button
        >
      </div>
    </section>
    <TryPanel v-if="!beside" :collections="collections" :text="sound" />
  </div>
</template>

<style scoped>
.panel {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 16px;
  height: 100%;
}
.comparing {
  grid-template-columns: minmax(0, 1fr);
}
.choices {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.edit {
  display: flex;
  flex-direction: column;
  gap: 8px;
  min-height: 0;
}
.bar {
  display: flex;
  gap: 8px;
  align-items: center;
}
.versions {
  flex: 1;
  min-width: 0;
}
.editor {
  flex: 1;
  min-height: 160px;
}
.notes {
  display: flex;
  flex-direction: column;
  gap: 4px;
  max-height: 30%;
  overflow: auto;
  flex: none;
}
@media (max-width: 980px) {
  .panel {
    grid-template-columns: minmax(0, 1fr);
    height: auto;
  }
  .editor {
    height: 320px;
    flex: none;
  }
}
</style>
