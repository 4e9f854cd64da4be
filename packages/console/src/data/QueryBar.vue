<script setup lang="ts">
import type { Problem } from '@uproar/client';
import { Alert, Button, Input } from 'ant-design-vue';
import { computed, defineAsyncComponent, ref, watch } from 'vue';
import type { Vocabulary } from '../cql/language';
import { useStore } from '../shared/injection';
import OfferedQuery from '../unsaved/OfferedQuery.vue';
import { useTypedQuery } from '../unsaved/use-typed-query';

const props = defineProps<{
  collection: string;
  where: string;
  order: string;
  problem: Problem | undefined;
  live: boolean;
  vocabulary: () => Vocabulary;
}>();
const CqlEditor = defineAsyncComponent(() => import('../cql/CqlEditor.vue'));
const emit = defineEmits<{ run: [where: string, order: string] }>();
const store = useStore();

const hints = ref<string[]>([]);
const { typed, altered, offered, reset, takeOffered, dropOffered } = useTypedQuery(
  () => `query-bar:${props.collection}`,
  () => ({ where: props.where, order: props.order }),
);

/** The condition with a caret under the place of the mistake. */
const marked = computed(() => {
  const { position, pointer } = props.problem ?? {};
  if (position === undefined) return undefined;
  const text = pointer === '/order' ? props.order : props.where;
  return `${text}\n${' '.repeat(position)}▲`;
});

// The cost and the advice are fetched again for each new query.
watch(
  () => [props.collection, props.where, props.order, props.live] as const,
  async ([collection, condition, terms, live]) => {
    hints.value = [];
    if (!live || (condition === '' && terms === '')) return;
    try {
      const body = { from: collection, where: condition || undefined, order: terms || undefined, limit: 'none' };
      const { warnings, advice } = await store.post<{ warnings: string[]; advice: string[] }>('/v1/explain', body);
      if (props.where === condition && props.order === terms) hints.value = [...warnings, ...advice];
    } catch {
      // The view itself shows the error.
    }
  },
  { immediate: true },
);

function run(): void {
  Object.assign(typed, { where: typed.where.trim(), order: typed.order.trim() });
  emit('run', typed.where, typed.order);
}

function clear(): void {
  Object.assign(typed, { where: '', order: '' });
  run();
}
</script>

<template>
  <form class="bar" role="search" @submit.prevent="run">
    <div class="inputs">
      <span class="label" aria-hidden="true">where</span>
      <div class="where" :class="{ wrong: problem }">
        <CqlEditor
          v-model="typed.where"
          label="where"
          lines="one"
          hint="status = 'aloft' AND altitude > 300"
          :vocabulary="vocabulary"
          @run="run"
        />
      </div>
      <label for="order">order</label>
      <Input
        id="order"
        v-model:value="typed.order"
        aria-label="order"
        class="mono order"
        spellcheck="false"
        autocomplete="off"
        placeholder="-altitude,name"
      />
      <Button html-type="submit" :type="altered ? 'primary' : 'default'">Run</Button>
      <Button v-if="altered" type="text" title="Back to the query whose result is shown" @click="reset">Reset</Button>
      <Button v-if="typed.where !== '' || typed.order !== ''" type="text" @click="clear">Clear</Button>
    </div>
    <OfferedQuery :fields="offered" @take="takeOffered" @drop="dropOffered" />
    <div v-if="problem" class="problem" role="alert">
      <pre v-if="marked">{{ marked }}</pre>
      {{ problem.detail }}
    </div>
    <Alert v-for="hint in hints" :key="hint" class="hint" type="info" banner :message="hint" />
  </form>
</template>

<style scoped>
.bar {
  border-bottom: 1px solid var(--line);
}
.inputs {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 8px;
  padding: 8px 16px;
}
label,
.label {
  color: var(--ink-3);
}
.where {
  flex: 3 1 220px;
  min-width: 0;
  height: 28px;
}
.wrong :deep(.cql) {
  border-color: var(--bad);
}
.order {
  flex: 1 1 110px;
  width: auto;
}
.problem {
  padding: 0 16px 8px;
  color: var(--bad);
}
pre {
  margin: 0;
  font-family: var(--mono);
  font-size: 12px;
  line-height: 1.3;
  overflow-x: auto;
}
.hint {
  font-size: 12px;
}
@media (max-width: 720px) {
  label,
  .label {
    display: none;
  }
  .where {
    flex-basis: 100%;
  }
}
</style>
