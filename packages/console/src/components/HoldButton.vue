<script setup lang="ts">
import { Button } from 'ant-design-vue';

/** Pauses a view and resumes it. */
defineProps<{
  /** The number of changes during the pause. */
  waiting: number;
}>();
const paused = defineModel<boolean>('paused', { required: true });
</script>

<template>
  <Button size="small" :type="paused ? 'primary' : 'default'" @click="paused = !paused">{{
    paused ? `Resume${waiting > 0 ? ` (${waiting.toLocaleString()} changed)` : ''}` : 'Pause'
  }}</Button>
</template>
