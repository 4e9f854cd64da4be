<script setup lang="ts">
const address = location.origin;
const steps = [
  {
    title: 'Tell the command line where the store is',
    line: `export UPROAR_URL=${address} UPROAR_KEY=…`,
  },
  { title: 'Write a document', line: `uproar put notes/first '{"text":"hello"}'` },
  { title: 'Watch it change', line: 'uproar watch notes' },
];
</script>

<template>
  <div class="steps">
    <h1>Nothing is in this store yet</h1>
    <p class="muted">
      A collection is there as soon as something is written to it. Use the button above, or a terminal:
    </p>
    <ol>
      <li v-for="{ title, line } in steps" :key="title">
        {{ title }}
        <pre>{{ line }}</pre>
      </li>
    </ol>
  </div>
</template>

<style scoped>
.steps {
  max-width: 560px;
  margin: 48px auto;
  padding: 0 24px;
}
h1 {
  font-size: 18px;
}
li {
  margin-bottom: 12px;
}
pre {
  margin: 4px 0 0;
  padding: 8px 12px;
  background: var(--paper-2);
  border: 1px solid var(--line);
  border-radius: 5px;
  font-family: var(--mono);
  font-size: 12px;
  overflow-x: auto;
}
</style>
