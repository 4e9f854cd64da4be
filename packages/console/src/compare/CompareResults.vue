<script setup lang="ts">
import { useWatch } from '@uproar/vue';
import { computed, ref } from 'vue';
import { formOf } from '../queries/bench-query';
import { usePast } from '../past/use-past';
import { useStore } from '../shared/injection';
import { formatCell } from '../table/fields';
import { compareResults } from './compare-results';
import type { ResultSide } from './sides';

/** Two results, document by document: each live, or as it was at a seq. */
const props = defineProps<{ a: ResultSide; b: ResultSide }>();
const store = useStore();

/** Differences that are listed. */
const MOST_LISTED = 500;
const MOST_FIELDS = 4;

function useResult({ query, at }: ResultSide) {
  if (at !== undefined) {
    const { include: _, ...form } = formOf(query);
    const past = usePast(store, () => form, at);
    return {
      view: computed(() => past.frame.value?.view),
      fault: computed(() => past.failure.value),
    };
  }
  const { from, ...parts } = formOf(query);
  const view = useWatch(() => store.collection(from).watch(parts as object));
  return { view, fault: computed(() => view.value?.error?.detail ?? '') };
}
const sides = { a: useResult(props.a), b: useResult(props.b) };
const faults = computed(() => [sides.a.fault.value, sides.b.fault.value].filter(Boolean));
const ready = computed(() => [sides.a, sides.b].every(({ view }) => view.value && view.value.state !== 'loading'));
const found = computed(() => {
  const [a, b] = [sides.a.view.value, sides.b.view.value];
  return a && b && ready.value ? compareResults(a.byId, b.byId) : undefined;
});
const counts = computed(() => {
  const of = (kind: string) => found.value!.differences.filter((one) => one.kind === kind).length;
  return { different: of('different'), onlyA: of('only in A'), onlyB: of('only in B') };
});
const kinds = ref({ different: true, 'only in A': true, 'only in B': true });
const listed = computed(
  () => found.value?.differences.filter(({ kind }) => kinds.value[kind]).slice(0, MOST_LISTED) ?? [],
);
const sameCollection = computed(() => props.a.query.from === props.b.query.from && props.a.query.summary === '');
</script>

<template>
  <section class="results" aria-label="Differences of the results">
    <p v-for="fault in faults" :key="fault" class="bad" role="alert">{{ fault }}</p>
    <p v-if="!found && faults.length === 0" class="muted">Loading…</p>
    <template v-if="found">
      <div class="filters" role="group" aria-label="Shown differences">
        <label
          ><input v-model="kinds.different" type="checkbox" /> {{ counts.different.toLocaleString() }} different</label
        >
        <label
          ><input v-model="kinds['only in A']" type="checkbox" /> {{ counts.onlyA.toLocaleString() }} only in A</label
        >
        <label
          ><input v-model="kinds['only in B']" type="checkbox" /> {{ counts.onlyB.toLocaleString() }} only in B</label
        >
        <span class="muted">{{ found.same.toLocaleString() }} equal</span>
      </div>
      <p v-if="found.differences.length === 0" class="muted">The results are equal.</p>
      <table v-else class="plain pinned">
        <thead>
          <tr>
            <th scope="col">id</th>
            <th scope="col">difference</th>
            <th scope="col">A → B</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in listed" :key="one.id">
            <td class="mono">
              <RouterLink
                v-if="sameCollection && one.a && one.b"
                :to="{ name: 'data', params: { collection: a.query.from, id: one.id } }"
                >{{ one.id }}</RouterLink
              >
              <template v-else>{{ one.id }}</template>
            </td>
            <td :class="one.kind.replaceAll(' ', '-')">{{ one.kind }}</td>
            <td class="mono changes">
              <template v-if="one.kind === 'different'">
                <span v-for="change in one.changes.slice(0, MOST_FIELDS)" :key="change.pointer" class="change"
                  >{{ change.name }} <del>{{ formatCell(change.before) || '–' }}</del> →
                  <ins>{{ formatCell(change.after) || '–' }}</ins></span
                >
                <span v-if="one.changes.length > MOST_FIELDS" class="muted"
                  >and {{ one.changes.length - MOST_FIELDS }} more</span
                >
              </template>
              <span v-else class="muted">{{ formatCell((one.a ?? one.b)!.data) }}</span>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="found.differences.length > MOST_LISTED" class="muted">
        The first {{ MOST_LISTED }} differences are listed.
      </p>
    </template>
  </section>
</template>

<style scoped>
.results {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
.results > p {
  padding: 12px 16px;
}
.filters {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
  padding: 10px 16px;
}
.filters label {
  display: inline-flex;
  gap: 6px;
  align-items: center;
}
.bad {
  margin: 0;
  color: var(--bad);
}
.changes {
  white-space: normal;
  overflow-wrap: anywhere;
}
td a {
  color: var(--accent);
}
.change {
  display: inline-block;
  margin-right: 14px;
}
del {
  background: var(--bad-soft);
  text-decoration: none;
}
ins {
  background: var(--live-soft);
  text-decoration: none;
}
</style>
