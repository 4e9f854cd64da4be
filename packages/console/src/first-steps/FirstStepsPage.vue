<script setup lang="ts">
import type { View } from '@uproar/client';
import { Button } from 'ant-design-vue';
import { useRouter } from 'vue-router';
import PageFrame from '../components/PageFrame.vue';
import FirstSteps from './FirstSteps.vue';
import { rememberSteps } from './remember-steps';

/** The first steps, also once something is in the store. */
defineProps<{ collections: View | undefined }>();
const router = useRouter();

function hide(): void {
  rememberSteps(false);
  void router.push({ name: 'data' });
}
</script>

<template>
  <PageFrame title="First steps">
    <template #tools>
      <Button size="small" title="They are found again with Ctrl K" @click="hide">Hide</Button>
    </template>
    <div class="page"><FirstSteps :collections="collections" /></div>
  </PageFrame>
</template>

<style scoped>
.page {
  overflow-y: auto;
}
</style>
