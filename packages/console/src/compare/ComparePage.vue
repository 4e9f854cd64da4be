<script setup lang="ts">
import type { View } from '@uproar/client';
import { useWatch } from '@uproar/vue';
import { Button, Input, Segmented } from 'ant-design-vue';
import { computed, reactive, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import ChoiceBox from '../components/ChoiceBox.vue';
import PageFrame from '../components/PageFrame.vue';
import { useStore } from '../shared/injection';
import { partsOf } from '../queries/bench-query';
import { QUERIES, readSavedQuery } from '../queries/saved-queries';
import CompareDocuments from './CompareDocuments.vue';
import CompareResults from './CompareResults.vue';
import { readResultSide, writeResultSide } from './sides';

/** Two documents, two states of a document, or two results side by side. All is in the address. */
defineProps<{ collections: View | undefined }>();
const store = useStore();
const route = useRoute();
const router = useRouter();

const kind = computed(() => (route.query.kind === 'results' ? 'Results' : 'Documents'));
const asked = computed(() => ({ a: String(route.query.a ?? ''), b: String(route.query.b ?? '') }));
const typed = reactive({ a: '', b: '' });
watch(asked, (now) => Object.assign(typed, now), { immediate: true });
const SIDES = ['a', 'b'] as const;

function show(part: Record<string, string>): void {
  void router.push({ name: 'compare', query: { ...route.query, ...part } });
}
function compare(): void {
  show({ a: typed.a.trim(), b: typed.b.trim() });
}
function swap(): void {
  show({ a: asked.value.b, b: asked.value.a });
}
function choose(chosen: string | number): void {
  void router.push({ name: 'compare', query: chosen === 'Results' ? { kind: 'results' } : {} });
}

const MOST_LISTED = 200;
const savedView = useWatch(() =>
  kind.value === 'Results' ? store.collection(QUERIES).watch({ order: 'name', limit: MOST_LISTED }) : undefined,
);
const options = computed(() =>
  (savedView.value?.documents ?? []).flatMap((document) => {
    const saved = readSavedQuery(document);
    return saved ? [{ value: writeResultSide({ query: saved.query, at: undefined }), label: saved.name }] : [];
  }),
);
const sides = computed(() => ({ a: readResultSide(asked.value.a), b: readResultSide(asked.value.b) }));
/** A side without its seq, to choose it by. */
const queryOf = (side: 'a' | 'b') => {
  const read = sides.value[side];
  return read && writeResultSide({ query: read.query, at: undefined });
};
const optionsOf = (side: 'a' | 'b') => {
  const value = queryOf(side);
  if (value === undefined || options.value.some((one) => one.value === value)) return options.value;
  const { query } = sides.value[side]!;
  const parts = Object.entries(partsOf(query)).map(([name, text]) => `${name} ${text}`);
  return [{ value, label: `${query.from} ${parts.join(' ')}`.slice(0, 80) }, ...options.value];
};
function setAt(side: 'a' | 'b', text: string): void {
  const read = sides.value[side];
  if (!read) return;
  const at = /^\d{1,15}$/.test(text.trim()) ? Number(text) : undefined;
  show({ [side]: writeResultSide({ query: read.query, at }) });
}
</script>

<template>
  <PageFrame title="Compare">
    <template #tools>
      <Segmented :value="kind" :options="['Documents', 'Results']" aria-label="What is compared" @change="choose" />
      <Button :disabled="asked.a === '' && asked.b === ''" @click="swap">Swap</Button>
    </template>
    <form class="sides" @submit.prevent="compare">
      <template v-if="kind === 'Documents'">
        <label v-for="side in SIDES" :key="side"
          >{{ side.toUpperCase() }}
          <Input
            v-model:value="typed[side]"
            class="mono"
            spellcheck="false"
            :placeholder="side === 'a' ? 'balloons/bl-17@1204' : 'balloons/bl-17'"
          />
        </label>
        <Button html-type="submit" type="primary">Compare</Button>
      </template>
      <template v-else>
        <label v-for="side in SIDES" :key="side"
          >{{ side.toUpperCase() }}
          <ChoiceBox
            class="query"
            :value="queryOf(side)"
            placeholder="a saved query"
            :options="optionsOf(side)"
            @change="(value) => show({ [side]: value ?? '' })"
          />
          <Input
            class="at"
            size="small"
            :value="sides[side]?.at === undefined ? '' : String(sides[side]!.at)"
            :disabled="!sides[side]"
            :aria-label="`Seq of ${side.toUpperCase()}`"
            placeholder="live, or a seq"
            @change="(event) => setAt(side, String(event.target.value ?? ''))"
          />
        </label>
      </template>
    </form>
    <CompareDocuments v-if="kind === 'Documents' && (asked.a !== '' || asked.b !== '')" :a="asked.a" :b="asked.b" />
    <CompareResults
      v-else-if="kind === 'Results' && sides.a && sides.b"
      :key="`${asked.a} ${asked.b}`"
      :a="sides.a"
      :b="sides.b"
    />
    <div v-else class="nothing">
      <b>Choose what to compare</b>
      <span v-if="kind === 'Documents'" class="muted"
        >Two documents, or a document now and at an earlier seq. You can also select two rows on the page Data.</span
      >
      <span v-else class="muted"
        >Two saved queries, or one now and at an earlier seq. <i>Rewind</i> on a result leads here, too.</span
      >
    </div>
  </PageFrame>
</template>

<style scoped>
.sides {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  padding: 10px 16px;
  border-bottom: 1px solid var(--line);
}
.sides label {
  display: flex;
  flex: 1 1 260px;
  gap: 8px;
  align-items: center;
  min-width: 0;
  color: var(--ink-3);
}
.query {
  flex: 1;
}
.at {
  width: 110px;
}
</style>
