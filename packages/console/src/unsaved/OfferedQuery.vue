<script setup lang="ts">
import { Button } from 'ant-design-vue';
import { computed } from 'vue';

/** Offers back the inputs of a query that were typed and never run. */
const props = defineProps<{ fields: Record<string, string> | undefined }>();
const emit = defineEmits<{ take: []; drop: [] }>();
const text = computed(() =>
  Object.entries(props.fields ?? {})
    .filter(([, value]) => value !== '')
    .map(([name, value]) => `${name} ${value}`)
    .join(' · '),
);
</script>

<template>
  <p v-if="fields" class="offered" role="status">
    <span class="text"
      >Typed earlier and not run: <span class="mono">{{ text || 'an empty query' }}</span></span
    >
    <Button size="small" @click="emit('take')">Restore it</Button>
    <Button size="small" type="text" @click="emit('drop')">Discard</Button>
  </p>
</template>

<style scoped>
.offered {
  display: flex;
  gap: 8px;
  align-items: center;
  margin: 0;
  padding: 4px 16px;
  background: var(--warn-soft);
}
.text {
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
