<script setup lang="ts">
import { splitAddress } from '@uproar/core';
import { Button, Segmented } from 'ant-design-vue';
import { ref } from 'vue';
import type { JournalEvent } from '@uproar/protocol';
import { kindOfChange } from '../shared/live-journal';
import IdentityMenu from '../identity/IdentityMenu.vue';
import DifferenceTable from '../components/DifferenceTable.vue';

defineProps<{ event: JournalEvent }>();
const emit = defineEmits<{ only: [subject: string] }>();
const whole = ref<'Changed fields' | 'All fields'>('Changed fields');
</script>

<template>
  <section aria-label="Before and after">
    <h2>
      <RouterLink
        :to="{
          name: 'data',
          params: { collection: splitAddress(event.subject).collection, id: splitAddress(event.subject).id },
        }"
        >{{ event.subject }}</RouterLink
      >
      <span class="kind" :class="kindOfChange(event)">{{ kindOfChange(event) }}</span>
    </h2>
    <dl>
      <dt>seq</dt>
      <dd class="mono">{{ event.seq }}</dd>
      <dt>when</dt>
      <dd>{{ new Date(event.time).toLocaleString() }}</dd>
      <dt>who</dt>
      <dd><IdentityMenu :identity="event.identity" /></dd>
      <dt>version before</dt>
      <dd class="mono">{{ event.data.before?.version ?? '–' }}</dd>
    </dl>
    <p v-if="kindOfChange(event) === 'erased'" class="muted">What this change held has been erased.</p>
    <Segmented
      v-else
      v-model:value="whole"
      size="small"
      :options="['Changed fields', 'All fields']"
      aria-label="Which fields"
    />
    <DifferenceTable v-if="kindOfChange(event) !== 'erased'" v-bind="event.data" :whole="whole === 'All fields'" />
    <Button size="small" type="link" class="only" @click="emit('only', event.subject)"
      >Only changes of {{ event.subject }}</Button
    >
  </section>
</template>

<style scoped>
section {
  padding: 12px 16px;
  overflow-y: auto;
}
h2 {
  display: flex;
  gap: 10px;
  margin: 0 0 8px;
  font-size: 14px;
}
h2 a {
  color: inherit;
}
.kind {
  font-size: 12px;
  font-weight: 400;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 12px;
  margin: 0 0 12px;
}
dt {
  color: var(--ink-3);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
table {
  margin-top: 8px;
}
.only {
  margin: 8px 0 0 -8px;
}
.created {
  color: var(--live);
}
.updated {
  color: var(--warn);
}
.deleted,
.erased {
  color: var(--bad);
}
</style>
