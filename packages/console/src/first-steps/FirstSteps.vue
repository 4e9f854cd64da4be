<script setup lang="ts">
import type { View } from '@uproar/client';
import { Button, Segmented } from 'ant-design-vue';
import { computed, ref, watch } from 'vue';
import { useRouter } from 'vue-router';
import { copiesOf } from '../queries/copies';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { usePolled } from '../shared/use-polled';
import { keptKey } from '../sign-in/sign-in-link';
import { downloadBackup } from './download-backup';
import { FIRST_POLICY, lookAtSteps, pageFor, type FoundSteps } from './first-steps';
import { rememberSteps } from './remember-steps';

/** The first things to do with a store. Each is ticked off when the store shows that it is done. */
const props = defineProps<{ collections: View | undefined }>();
const store = useStore();
const notices = useNotices();
const router = useRouter();
const address = location.origin;
const key = keptKey();
const LOOK_EVERY_MS = 2500;

const { value: found, again } = usePolled<FoundSteps>(
  LOOK_EVERY_MS,
  (before) => lookAtSteps(store, props.collections, key !== undefined && !before?.refused),
  () => props.collections?.documents.length,
);
const STEPS = ['document', 'live', 'policy', 'backup'] as const;
type Step = (typeof STEPS)[number];
const TITLES: Record<Step, string> = {
  document: 'Write the first document',
  live: 'Show it live',
  policy: 'Say who may see and change what',
  backup: 'Make a backup',
};
const done = computed(() => STEPS.filter((step) => found.value?.[step] !== undefined).length);
/** The step that is unfolded: the one that was chosen, otherwise the first that is not done. */
const chosen = ref<Step>();
const open = computed(() => chosen.value ?? STEPS.find((step) => found.value?.[step] === undefined));
watch(found, (now, before) => {
  if (now && before && chosen.value && now[chosen.value] !== undefined && before[chosen.value] === undefined)
    chosen.value = undefined;
});
watch(done, (count) => rememberSteps(found.value === undefined || count < STEPS.length), { immediate: true });

/** The copied text contains the key; the displayed text does not. */
const KEY = '<your key>';
const exported = `export UPROAR_URL=${address} UPROAR_KEY=${KEY}`;
const QUERY = { from: 'notes', where: '', order: '', limit: '', fields: '', include: '', summary: '', by: '' };
const copies = copiesOf(QUERY, address);
const codeOf = (name: string) => copies.find((one) => one.name === name)!.text;
const WRITES: Record<string, string> = {
  'Command line': `uproar put notes/first '{"text":"hello"}'`,
  curl: `curl -X PUT -H "Authorization: Bearer $UPROAR_KEY" -H 'Content-Type: application/json' -d '{"text":"hello"}' ${address}/v1/data/notes/first`,
  'Node.js': `import { connect } from '@uproar/client';\n\nconst store = connect('${address}', { token: process.env.UPROAR_KEY });\nawait store.collection('notes').put('first', { text: 'hello' });\nstore.close();`,
};
const WATCHES: Record<string, string> = {
  'Command line': 'uproar watch notes',
  curl: codeOf('curl, live'),
  'Node.js': codeOf('TypeScript'),
  'Web page': pageFor(address),
  React: codeOf('React'),
  Vue: codeOf('Vue'),
  Python: codeOf('Python, live'),
  Java: codeOf('Java, live'),
};
const write = ref('Command line');
const live = ref('Command line');

async function copy(text: string): Promise<void> {
  await navigator.clipboard.writeText(key === undefined ? text : text.replaceAll(KEY, key));
  notices.success({ message: text.includes(KEY) && key ? 'Copied, with your key in it' : 'Copied', duration: 2 });
}

const busy = ref('');
async function act(what: string, action: () => Promise<unknown>): Promise<void> {
  busy.value = what;
  try {
    await action();
  } catch (error) {
    notices.error({ message: 'That failed', description: describeFailure(error) });
  } finally {
    busy.value = '';
    again();
  }
}
const createNote = () =>
  act('document', () => store.collection('notes').put('first', { text: 'hello' }, { ifVersion: 0 }));
const setPolicy = () => act('policy', () => store.request('PUT', '/v1/policy', { text: FIRST_POLICY }));
const makeBackup = () => act('backup', () => downloadBackup(store));
</script>

<template>
  <div class="steps">
    <h2>{{ collections?.documents.length === 0 ? 'Nothing is in this store yet' : 'First steps' }}</h2>
    <p class="muted">
      {{ done }} of {{ STEPS.length }} done. This page looks at the store and ticks off each step by itself.
    </p>
    <ol>
      <li v-for="step in STEPS" :key="step" :class="{ done: found?.[step] !== undefined }">
        <button type="button" class="title" :aria-expanded="open === step" @click="chosen = step">
          <span class="tick" aria-hidden="true">{{ found?.[step] === undefined ? '○' : '✓' }}</span>
          <b>{{ TITLES[step] }}</b>
          <span class="muted">{{
            found?.[step] ?? (step !== 'document' && found?.refused ? 'seen with an admin key' : 'not yet')
          }}</span>
        </button>
        <div v-if="open === step" class="body">
          <template v-if="step === 'document'">
            <p>
              A collection is there as soon as something is written to it. You can also drop a JSON or CSV file on the
              page Data.
            </p>
            <div class="lines">
              <pre tabindex="0">{{ exported }}</pre>
              <Button size="small" @click="copy(exported)">Copy</Button>
            </div>
            <Segmented v-model:value="write" :options="Object.keys(WRITES)" aria-label="How to write it" />
            <div class="lines">
              <pre tabindex="0">{{ WRITES[write] }}</pre>
              <Button size="small" @click="copy(WRITES[write]!)">Copy</Button>
            </div>
            <Button type="primary" :loading="busy === 'document'" @click="createNote"
              >Write notes/first from here</Button
            >
          </template>
          <template v-else-if="step === 'live'">
            <p>
              The same address that returns documents once also keeps them up to date. Start one of these, then change a
              note: it changes there, too.
            </p>
            <Segmented v-model:value="live" :options="Object.keys(WATCHES)" aria-label="How to watch it" />
            <p v-if="live === 'Web page'" class="muted">
              Save it as <code>live.html</code> in a folder, start the store with <code>--pages</code> and that folder,
              and open <code>/pages/live.html</code>.
            </p>
            <p v-else-if="['React', 'Vue'].includes(live)" class="muted">
              For a new app with Vite, set <code>VITE_UPROAR_KEY</code> in its <code>.env.local</code>, and start the
              store with <code>--allow-origin http://localhost:5173</code>.
            </p>
            <div class="lines">
              <pre tabindex="0">{{ WATCHES[live] }}</pre>
              <Button size="small" @click="copy(WATCHES[live]!)">Copy</Button>
            </div>
          </template>
          <template v-else-if="step === 'policy'">
            <p>
              Without a policy, only keys have access. Apps do not use keys: people sign in, and the policy decides what
              each may see. This is a beginning:
            </p>
            <div class="lines">
              <pre tabindex="0">{{ FIRST_POLICY }}</pre>
              <Button size="small" @click="copy(FIRST_POLICY)">Copy</Button>
            </div>
            <Button
              type="primary"
              :loading="busy === 'policy'"
              :disabled="found?.policy !== undefined"
              @click="setPolicy"
              >Put this policy in force</Button
            >
            <Button @click="router.push({ name: 'access', params: { tab: 'policy' } })">Write another one</Button>
          </template>
          <template v-else>
            <p>
              A backup is one file with everything: documents, journal, policy, accounts and files. It is made while the
              store is in use.
            </p>
            <div class="lines">
              <pre tabindex="0">uproar backup my-store.sqlite</pre>
              <Button size="small" @click="copy('uproar backup my-store.sqlite')">Copy</Button>
            </div>
            <Button type="primary" :loading="busy === 'backup'" @click="makeBackup">Make one and download it</Button>
          </template>
        </div>
      </li>
    </ol>
    <p v-if="done === STEPS.length">All done. The <a href="/docs/">documentation</a> goes on from here.</p>
  </div>
</template>

<style scoped>
.steps {
  max-width: 780px;
  margin: 28px auto;
  padding: 0 24px;
}
h2 {
  font-size: 18px;
}
ol {
  padding: 0;
  list-style: none;
}
li {
  margin-bottom: 8px;
  border: 1px solid var(--line);
  border-radius: 6px;
}
.title {
  display: flex;
  gap: 10px;
  align-items: baseline;
  width: 100%;
  padding: 8px 12px;
  border: 0;
  background: none;
  color: var(--ink);
  font: inherit;
  text-align: left;
  cursor: pointer;
}
.title .muted {
  margin-left: auto;
  text-align: right;
}
.tick {
  width: 14px;
  color: var(--ink-3);
}
.done .tick {
  color: var(--live);
  font-weight: 700;
}
.body {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  padding: 0 12px 12px 36px;
}
.body p,
.lines {
  flex: 1 1 100%;
  min-width: 0;
  max-width: 100%;
  margin: 0;
}
.lines {
  display: flex;
  gap: 8px;
  align-items: flex-start;
}
pre {
  flex: 1;
  min-width: 0;
  max-height: 260px;
  margin: 0;
  padding: 8px 12px;
  border: 1px solid var(--line);
  border-radius: 5px;
  background: var(--paper-2);
  font-family: var(--mono);
  font-size: 12px;
  overflow: auto;
}
@media (max-width: 720px) {
  .steps {
    padding: 0 12px;
  }
  .body {
    padding-left: 12px;
  }
}
</style>
