<script setup lang="ts">
import type { Problem } from '@uproar/client';
import { Alert, Button, Input } from 'ant-design-vue';
import { computed, defineAsyncComponent, ref, watch } from 'vue';
import type { Vocabulary } from '../cql/language';
import { useStore } from '../injection';

const props = defineProps<{
  collection: string;
  where: string;
  order: string;
  problem: Problem | undefined;
  live: boolean;
  vocabulary: () => Vocabulary;
}>();
const CqlEditor = defineAsyncComponent(() => import('../cql/CqlEditor.vue'));
const emit = defineEmits<{ ask: [where: string, order: string] }>();
const store = useStore();

const where = ref(props.where);
const order = ref(props.order);
const hints = ref<string[]>([]);
watch(
  () => [props.where, props.order],
  ([nextWhere, nextOrder]) => {
    where.value = nextWhere!;
    order.value = nextOrder!;
  },
);

/** The condition with a caret under the place of the mistake. */
const marked = computed(() => {
  const { position, pointer } = props.problem ?? {};
  if (position === undefined) return undefined;
  const text = pointer === '/order' ? props.order : props.where;
  return `${text}\n${' '.repeat(position)}▲`;
});

// What the query costs, and what would help, is asked whenever another one is.
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
      // The view itself says what is wrong.
    }
  },
  { immediate: true },
);

function ask(): void {
  emit('ask', where.value.trim(), order.value.trim());
}

function clear(): void {
  where.value = '';
  order.value = '';
  ask();
}
</script>

<template>
  <form class="bar" role="search" @submit.prevent="ask">
    <div class="inputs">
      <span class="label" aria-hidden="true">where</span>
      <div class="where" :class="{ wrong: problem }">
        <CqlEditor
          v-model="where"
          label="where"
          lines="one"
          hint="status = 'aloft' AND altitude > 300"
          :vocabulary="vocabulary"
          @ask="ask"
        />
      </div>
      <label for="order">order</label>
      <Input
        id="order"
        v-model:value="order"
        aria-label="order"
        class="mono order"
        spellcheck="false"
        autocomplete="off"
        placeholder="-altitude,name"
      />
      <Button html-type="submit">Ask</Button>
      <Button v-if="where !== '' || order !== ''" type="text" @click="clear">Clear</Button>
    </div>
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
