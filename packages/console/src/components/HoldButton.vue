<script setup lang="ts">
import { groupDigits } from '@uproar/core';
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
    paused ? `Resume${waiting > 0 ? ` (${groupDigits(waiting)} changed)` : ''}` : 'Pause'
  }}</Button>
</template>
