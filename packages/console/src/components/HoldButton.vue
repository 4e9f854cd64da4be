<script setup lang="ts">
import { Button } from 'ant-design-vue';

/** Holds what is shown still, and lets it go on. */
defineProps<{
  /** How much has altered meanwhile. */
  waiting: number;
}>();
const paused = defineModel<boolean>('paused', { required: true });
</script>

<template>
  <Button size="small" :type="paused ? 'primary' : 'default'" @click="paused = !paused">{{
    paused ? `Resume${waiting > 0 ? ` (${waiting.toLocaleString()} changed)` : ''}` : 'Pause'
  }}</Button>
</template>
