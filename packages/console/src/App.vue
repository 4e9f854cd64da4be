<script setup lang="ts">
import { ConfigProvider } from 'ant-design-vue';
import { onMounted, ref } from 'vue';
import { ConnectionError } from '@uproar/client';
import Shell from './shell/Shell.vue';
import SignInPage from './sign-in/SignInPage.vue';
import { session, signIn } from './sign-in/session';
import { keptKey } from './sign-in/sign-in-link';
import { componentTheme } from './shared/theme';

const trying = ref(keptKey() !== undefined);
const refusal = ref('');

onMounted(async () => {
  const key = keptKey();
  if (key === undefined) return;
  try {
    await signIn(key);
  } catch (error) {
    refusal.value =
      error instanceof ConnectionError ? 'The store cannot be reached.' : 'The saved key is not valid any more.';
  }
  trying.value = false;
});
</script>

<template>
  <ConfigProvider :theme="componentTheme">
    <Shell v-if="session" :store="session" />
    <SignInPage v-else-if="!trying" :refusal="refusal" />
  </ConfigProvider>
</template>
