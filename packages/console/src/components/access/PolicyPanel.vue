<script setup lang="ts">
import { ProblemError, type View } from '@uproar/client';
import type { PolicyAnswer, PolicyVersion, PolicyWarning } from '@uproar/protocol';
import { Alert, Button, Input, Tag } from 'ant-design-vue';
import { computed, defineAsyncComponent, onMounted, ref, watch } from 'vue';
import ChoiceBox from '../ChoiceBox.vue';
import { useNotices, useStore } from '../../injection';
import TryPanel from './TryPanel.vue';
import { formatMoment, useCall } from './use-call';

const CodeEditor = defineAsyncComponent(() => import('../CodeEditor.vue'));
defineProps<{ collections: View | undefined }>();
const store = useStore();
const notices = useNotices();
const { busy, failure, run } = useCall();

const CHECK_AFTER_MS = 400;
const text = ref('');
const note = ref('');
const versions = ref<PolicyVersion[]>([]);
const shown = ref<number>(0);
const inForce = ref<PolicyVersion>();
const fault = ref('');
const warnings = ref<PolicyWarning[]>([]);
/** The text as it was last found sound; what is tried and previewed. */
const sound = ref<string>();

const altered = computed(() => inForce.value !== undefined && text.value !== inForce.value.text);
const choices = computed(() =>
  versions.value.map(({ version, time, note: why }) => ({
    value: version,
    label: `Version ${version}${version === inForce.value?.version ? ', in force' : ''} · ${formatMoment(time)}${why ? ` · ${why}` : ''}`,
  })),
);

onMounted(load);

async function load(): Promise<void> {
  await run(async () => {
    const [policy, listed] = await Promise.all([
      store.fetch<PolicyVersion>('/v1/policy'),
      store.fetch<{ versions: PolicyVersion[] }>('/v1/policy/versions'),
    ]);
    inForce.value = policy;
    versions.value = listed.versions;
    shown.value = policy.version;
    text.value = policy.text;
  });
}

let timer: ReturnType<typeof setTimeout> | undefined;
watch(text, () => {
  clearTimeout(timer);
  timer = setTimeout(() => void check(), sound.value === undefined ? 0 : CHECK_AFTER_MS);
});

async function check(): Promise<void> {
  const checked = text.value;
  try {
    const answer = await put({ text: checked, dryRun: true });
    if (text.value !== checked) return;
    warnings.value = answer.warnings;
    fault.value = '';
    sound.value = checked;
  } catch (error) {
    if (text.value !== checked || !(error instanceof ProblemError)) return;
    fault.value = error.problem.detail;
    warnings.value = [];
  }
}

async function put(body: object): Promise<PolicyAnswer> {
  return (await (await store.request('PUT', '/v1/policy', body)).json()) as PolicyAnswer;
}

async function setInForce(): Promise<void> {
  const body = { text: text.value, note: note.value || undefined, ifVersion: inForce.value?.version };
  const answer = await run(() => put(body));
  if (!answer) return;
  note.value = '';
  notices.success({ message: `Version ${answer.version} is in force`, description: 'Open views follow at once.' });
  await load();
}

function show(version: number): void {
  shown.value = version;
  text.value = versions.value.find((other) => other.version === version)?.text ?? text.value;
}
</script>

<template>
  <div class="panel">
    <section class="edit" aria-label="Policy">
      <div class="bar">
        <ChoiceBox
          v-if="versions.length > 0"
          :value="shown"
          class="versions"
          :options="choices"
          aria-label="Version of the policy"
          @change="(value) => show(Number(value))"
        />
        <span v-else class="muted versions">None has been set yet: nothing is allowed to anybody but keys.</span>
        <Tag v-if="fault" color="error">not sound</Tag>
        <Tag v-else-if="altered" color="warning">not in force</Tag>
        <Tag v-else color="success">in force</Tag>
      </div>
      <CodeEditor v-model="text" language="yaml" label="The policy in YAML" class="editor" @save="setInForce" />
      <div class="notes" role="status">
        <Alert v-if="failure" type="error" :message="failure" />
        <Alert v-if="fault" type="error" :message="fault" />
        <Alert v-for="{ pointer, message } in warnings" :key="pointer + message" type="warning">
          <template #message
            ><span class="mono">{{ pointer }}</span> {{ message }}</template
          >
        </Alert>
      </div>
      <div class="bar">
        <Input v-model:value="note" placeholder="What it is for (optional)" aria-label="What it is for" />
        <Button :disabled="!altered" @click="inForce && show(inForce.version)">Discard</Button>
        <Button type="primary" :disabled="!altered || fault !== ''" :loading="busy" @click="setInForce"
          >Put in force</Button
        >
      </div>
    </section>
    <TryPanel :collections="collections" :text="sound" :altered="altered" />
  </div>
</template>

<style scoped>
.panel {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 16px;
  height: 100%;
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
