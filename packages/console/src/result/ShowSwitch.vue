<script setup lang="ts">
import type { Show } from './presentation';

/** Chooses how a result is drawn. */
defineProps<{ show: Show; totals?: boolean }>();
const emit = defineEmits<{ change: [show: Show] }>();
const LABELS: Record<Show, string> = { table: 'Table', map: 'Map', chart: 'Chart', cards: 'Cards' };
</script>

<template>
  <span class="switch" role="radiogroup" aria-label="Show as">
    <template v-for="(label, name) in LABELS" :key="name">
      <label v-if="!totals || name === 'table' || name === 'chart'" :class="{ on: show === name }">
        <input type="radio" name="show-as" :value="name" :checked="show === name" @change="emit('change', name)" />
        {{ totals && name === 'chart' ? 'Bars' : label }}
      </label>
    </template>
  </span>
</template>

<style scoped>
.switch {
  display: inline-flex;
  padding: 1px;
  border: 1px solid var(--line);
  border-radius: 6px;
  background: var(--paper-2);
}
label {
  position: relative;
  padding: 1px 9px;
  border-radius: 5px;
  color: var(--ink-2);
  font-size: 12px;
  line-height: 20px;
  cursor: pointer;
}
label:hover {
  color: var(--ink);
}
.on {
  background: var(--paper);
  box-shadow: 0 0 0 1px var(--line);
  color: var(--ink);
  font-weight: 600;
}
input {
  position: absolute;
  opacity: 0;
}
label:has(:focus-visible) {
  outline: 2px solid var(--accent);
}
</style>
