<script setup lang="ts">
import type { View } from '@uproar/client';
import { Tag } from 'ant-design-vue';

/** Whether the view is live; `past` marks one of an earlier moment. */
defineProps<{ state: View['state']; paused: boolean; past?: boolean }>();

const WORDS = { loading: 'loading', live: 'live', stale: 'not up to date', failed: 'ended' };
const COLOURS = { loading: 'default', live: 'success', stale: 'warning', failed: 'error' };
</script>

<template>
  <Tag v-if="past" color="warning">as it was</Tag>
  <Tag v-else :color="paused ? 'warning' : COLOURS[state]">{{ paused ? 'paused' : WORDS[state] }}</Tag>
</template>
