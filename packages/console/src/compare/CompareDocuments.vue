<script setup lang="ts">
import { useWatch } from '@uproar/vue';
import type { Document } from '@uproar/client';
import { computed, ref, shallowRef, watch } from 'vue';
import DifferenceTable from '../components/DifferenceTable.vue';
import { describeFailure } from '../shared/failure';
import { useStore } from '../shared/injection';
import { readDocumentSide } from './sides';

/** Two documents, or two states of one, field by field. A side without a seq is live. */
const props = defineProps<{ a: string; b: string }>();
const store = useStore();

function useSide(text: () => string) {
  const side = computed(() => readDocumentSide(text()));
  const view = useWatch(() =>
    side.value?.at === undefined && side.value
      ? store.collection(side.value.collection).watchOne(side.value.id)
      : undefined,
  );
  const past = shallowRef<Document>();
  const failure = ref('');
  watch(
    text,
    async (now) => {
      [past.value, failure.value] = [undefined, ''];
      const read = side.value;
      if (read?.at === undefined) return;
      try {
        const found = await store.collection(read.collection).get(read.id, { at: read.at });
        if (text() !== now) return;
        past.value = found;
        if (!found) failure.value = `There was no ${read.collection}/${read.id} at seq ${read.at}.`;
      } catch (error) {
        if (text() === now) failure.value = describeFailure(error);
      }
    },
    { immediate: true },
  );
  return {
    document: computed((): Document | undefined =>
      side.value?.at === undefined ? view.value?.byId.get(side.value?.id ?? '') : past.value,
    ),
    fault: computed(() => {
      if (text() === '') return 'Enter the address of a document.';
      if (!side.value) return `“${text()}” is not an address such as balloons/bl-17 or balloons/bl-17@1204.`;
      if (failure.value !== '' || view.value?.error) return failure.value || view.value!.error!.detail;
      const loaded = side.value.at !== undefined || (view.value && view.value.state !== 'loading');
      return loaded && side.value.at === undefined && view.value!.documents.length === 0
        ? `There is no document ${side.value.collection}/${side.value.id}.`
        : '';
    }),
  };
}
const left = useSide(() => props.a);
const right = useSide(() => props.b);
const [documentA, documentB, faultA, faultB] = [left.document, right.document, left.fault, right.fault];
const whole = ref(true);
</script>

<template>
  <section class="documents" aria-label="Differences of the documents">
    <p v-for="fault in [faultA, faultB].filter(Boolean)" :key="fault" class="bad" role="alert">{{ fault }}</p>
    <template v-if="documentA && documentB">
      <label class="whole"><input v-model="whole" type="checkbox" /> also fields that are equal</label>
      <DifferenceTable
        :before="documentA"
        :after="documentB"
        :whole="whole"
        :heads="[props.a, props.b]"
        none="All fields are equal."
      />
    </template>
    <p v-else-if="!faultA && !faultB" class="muted">Loading…</p>
  </section>
</template>

<style scoped>
.documents {
  flex: 1;
  min-height: 0;
  padding: 12px 16px;
  overflow: auto;
}
.whole {
  display: inline-flex;
  gap: 6px;
  align-items: center;
  margin-bottom: 8px;
}
.bad {
  margin: 0 0 8px;
  color: var(--bad);
}
</style>
