<script setup lang="ts">
import { computed } from 'vue';

/** Bars on a common scale. */
const props = defineProps<{
  title: string;
  bars: readonly { name: string; value: number; text: string; kind?: 'main' | 'possible' }[];
}>();
const most = computed(() => Math.max(...props.bars.map(({ value }) => value), Number.MIN_VALUE));
</script>

<template>
  <figure>
    <figcaption>{{ title }}</figcaption>
    <ul>
      <li v-for="bar in bars" :key="bar.name">
        <span class="name">{{ bar.name }}</span>
        <span class="track"><i :class="bar.kind" :style="{ width: `${(100 * bar.value) / most}%` }" /></span>
        <output>{{ bar.text }}</output>
      </li>
    </ul>
  </figure>
</template>

<style scoped>
figure {
  margin: 0 0 10px;
}
figcaption {
  margin-bottom: 2px;
  color: var(--ink-3);
  font-size: 12px;
}
ul {
  display: grid;
  grid-template-columns: max-content minmax(40px, 1fr) max-content;
  gap: 3px 10px;
  align-items: center;
  margin: 0;
  padding: 0;
  font-size: 12.5px;
  list-style: none;
}
li {
  display: contents;
}
.track {
  height: 12px;
}
i {
  display: block;
  min-width: 2px;
  height: 100%;
  border-radius: 2px;
  background: color-mix(in srgb, var(--accent) 45%, var(--paper));
}
i.main {
  background: var(--accent);
}
i.possible {
  border: 1px dashed var(--live);
  background: var(--live-soft);
}
output {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
</style>
