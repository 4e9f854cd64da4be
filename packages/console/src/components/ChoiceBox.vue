<script setup lang="ts" generic="Value extends string | number | undefined">
/** A choice of a few values, as the browser itself offers it: for the keyboard, screen readers and phones. */
const value = defineModel<Value>('value', { required: true });
const props = defineProps<{
  options: readonly { value: string | number; label: string }[];
  /** What stands for no value, which can then be chosen too. */
  placeholder?: string;
  small?: boolean;
}>();
const emit = defineEmits<{ change: [value: Value] }>();

function choose(event: Event): void {
  const text = (event.target as HTMLSelectElement).value;
  const chosen = props.options.find((option) => String(option.value) === text)?.value as Value;
  value.value = chosen;
  emit('change', chosen);
}
</script>

<template>
  <select :class="{ small }" :value="value === undefined ? '' : String(value)" @change="choose">
    <option v-if="placeholder !== undefined" value="">{{ placeholder }}</option>
    <option v-for="option in options" :key="option.value" :value="String(option.value)">{{ option.label }}</option>
  </select>
</template>

<style scoped>
select {
  height: 28px;
  min-width: 0;
  padding: 0 6px;
  border: 1px solid var(--line);
  border-radius: 5px;
  background: var(--paper);
  color: var(--ink);
  font: inherit;
  text-overflow: ellipsis;
}
select:hover:not(:disabled) {
  border-color: var(--accent);
}
select:disabled {
  opacity: 0.6;
}
.small {
  height: 24px;
}
</style>
