<script setup lang="ts">
import { computed } from 'vue';

/** An input for text of any length: one line while that is enough, and up to eight. It is always the same element. */
const text = defineModel<string>({ required: true });

/** About as many characters stand in a line. */
const LINE = 56;
const MOST_ROWS = 8;
const rows = computed(() => {
  const needed = text.value.split('\n').reduce((sum, line) => sum + Math.max(1, Math.ceil(line.length / LINE)), 0);
  return Math.min(MOST_ROWS, needed);
});
</script>

<template>
  <textarea v-model="text" :rows="rows" :class="{ one: rows === 1 }" spellcheck="false" />
</template>

<style scoped>
textarea {
  display: block;
  width: 100%;
  min-height: 24px;
  padding: 1px 7px;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--paper);
  color: var(--ink);
  font: inherit;
  line-height: 20px;
  resize: vertical;
}
.one {
  resize: none;
}
textarea:hover,
textarea:focus {
  border-color: var(--accent);
}
</style>
