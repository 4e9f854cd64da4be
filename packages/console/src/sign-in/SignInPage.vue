<script setup lang="ts">
import { ConnectionError } from '@uproar/client';
import { Alert, Button, InputPassword } from 'ant-design-vue';
import { onMounted, ref } from 'vue';
import Wordmark from '../components/Wordmark.vue';
import { signIn, takesNoKey } from './session';

const props = defineProps<{ refusal: string }>();
const key = ref('');
const failure = ref(props.refusal);
const busy = ref(false);
const host = location.host;

/** Whether one can look around without a key. */
const open = ref(false);
onMounted(async () => (open.value = await takesNoKey()));

async function submit(): Promise<void> {
  if (key.value.trim() === '') {
    failure.value = 'Enter the key of the store first.';
    return;
  }
  busy.value = true;
  failure.value = '';
  try {
    await signIn(key.value.trim());
  } catch (error) {
    failure.value =
      error instanceof ConnectionError
        ? 'The store does not answer. Is it running?'
        : 'The store does not accept this key. Check that you copied all of it.';
  }
  busy.value = false;
}
</script>

<template>
  <main class="page">
    <form class="card" @submit.prevent="submit">
      <Wordmark />
      <p class="lead">
        The store at <b>{{ host }}</b>
      </p>
      <label for="key">Key</label>
      <InputPassword id="key" v-model:value="key" size="large" autofocus autocomplete="off" :disabled="busy" />
      <Alert v-if="failure" class="failure" type="error" :message="failure" role="alert" />
      <Button type="primary" html-type="submit" size="large" block :loading="busy">Sign in</Button>
      <Button v-if="open" class="without" size="large" block @click="signIn(undefined)">Continue without a key</Button>
      <p class="muted help">
        The first start of the store printed its key. If it is lost, start the store with
        <code>UPROAR_ADMIN_KEY</code> set to a new one of at least 16 characters. The key is kept in this tab only.
      </p>
    </form>
  </main>
</template>

<style scoped>
.page {
  min-height: 100%;
  display: grid;
  place-items: center;
  padding: 24px;
  background: var(--paper-2);
}
.card {
  width: min(400px, 100%);
  padding: 32px;
  background: var(--paper);
  border: 1px solid var(--line);
  border-radius: 10px;
}
.lead {
  margin: 6px 0 24px;
  color: var(--ink-2);
}
label {
  display: block;
  margin-bottom: 4px;
  font-weight: 600;
}
.failure {
  margin-top: 12px;
}
button[type='submit'] {
  margin-top: 16px;
}
.without {
  margin-top: 8px;
}
.help {
  margin: 20px 0 0;
}
code {
  font-family: var(--mono);
  font-size: 12px;
  color: var(--ink-2);
}
</style>
