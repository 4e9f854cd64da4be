<script setup lang="ts">
import { Button, Segmented } from 'ant-design-vue';
import { computed, ref } from 'vue';
import { useNotices } from '../shared/injection';
import { keptKey } from '../sign-in/session';

const notices = useNotices();
const address = location.origin;
const key = keptKey();
const language = ref<'Command line' | 'curl' | 'Code'>('Command line');

/** The copied text contains the key; the displayed text does not. */
const KEY = '<your key>';
const steps = computed(
  () =>
    ({
      'Command line': [
        { title: 'Tell the command line where the store is', lines: `export UPROAR_URL=${address} UPROAR_KEY=${KEY}` },
        { title: 'Watch a collection, which need not exist yet', lines: 'uproar watch notes' },
        {
          title: 'Write a document from another terminal, and see it arrive there and here',
          lines: `uproar put notes/first '{"text":"hello"}'`,
        },
      ],
      curl: [
        { title: 'Keep the key at hand', lines: `export UPROAR_KEY=${KEY}` },
        {
          title: 'Watch a collection, which need not exist yet',
          lines: `curl -N -H "Authorization: Bearer $UPROAR_KEY" -H 'Accept: text/event-stream' ${address}/v1/data/notes`,
        },
        {
          title: 'Write a document from another terminal, and see it arrive there and here',
          lines: `curl -X PUT -H "Authorization: Bearer $UPROAR_KEY" -H 'Content-Type: application/json' -d '{"text":"hello"}' ${address}/v1/data/notes/first`,
        },
      ],
      Code: [
        {
          title: 'Connect, in a browser or in Node.js',
          lines: `import { connect } from '${address}/client/uproar.js';\nconst store = connect('${address}', { token: '${KEY}' });`,
        },
        {
          title: 'Watch a collection, which need not exist yet',
          lines: `store.collection('notes').watch().subscribe(({ state, documents }) => console.log(state, documents));`,
        },
        {
          title: 'Write a document, and see it arrive there and here',
          lines: `await store.collection('notes').put('first', { text: 'hello' });`,
        },
      ],
    })[language.value],
);

async function copy(lines: string): Promise<void> {
  await navigator.clipboard.writeText(key === undefined ? lines : lines.replaceAll(KEY, key));
  notices.success({ message: lines.includes(KEY) && key ? 'Copied, with your key in it' : 'Copied', duration: 2 });
}
</script>

<template>
  <div class="steps">
    <h1>Nothing is in this store yet</h1>
    <p class="muted">
      A collection is there as soon as something is written to it. Take these three steps, use the button “New document”
      above, or drop a JSON or CSV file on this page.
    </p>
    <Segmented v-model:value="language" :options="['Command line', 'curl', 'Code']" aria-label="How" />
    <ol>
      <li v-for="{ title, lines } in steps" :key="title">
        {{ title }}
        <div class="lines">
          <pre tabindex="0">{{ lines }}</pre>
          <Button size="small" @click="copy(lines)">Copy</Button>
        </div>
      </li>
    </ol>
  </div>
</template>

<style scoped>
.steps {
  max-width: 720px;
  margin: 40px auto;
  padding: 0 24px;
}
h1 {
  font-size: 18px;
}
ol {
  padding-left: 20px;
}
li {
  margin-bottom: 14px;
}
.lines {
  display: flex;
  gap: 8px;
  align-items: flex-start;
  margin-top: 4px;
}
pre {
  flex: 1;
  min-width: 0;
  margin: 0;
  padding: 8px 12px;
  background: var(--paper-2);
  border: 1px solid var(--line);
  border-radius: 5px;
  font-family: var(--mono);
  font-size: 12px;
  overflow-x: auto;
}
</style>
