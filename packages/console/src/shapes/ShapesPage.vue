<script setup lang="ts">
import type { JsonValue, View } from '@uproar/client';
import type { ShapeReport } from '@uproar/protocol';
import { Alert, Button, Tag } from 'ant-design-vue';
import { computed, ref, shallowRef, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import ChoiceBox from '../components/ChoiceBox.vue';
import PageFrame from '../components/PageFrame.vue';
import { describeFailure } from '../shared/failure';
import { useStore } from '../shared/injection';
import SchemaPanel from './SchemaPanel.vue';
import { formatCell } from '../table/fields';
import { useOnReconnect } from '../shared/use-on-reconnect';

const props = defineProps<{ collections: View | undefined }>();
const store = useStore();
const route = useRoute();
const router = useRouter();

/** A field whose share in recent documents differs by more than this is reported as new or disappearing. */
const SHIFT = 0.3;
const collection = computed(() => String(route.params.collection || props.collections?.documents[0]?.id || ''));
const names = computed(() => (props.collections?.documents ?? []).map(({ id }) => ({ value: id, label: id })));
const report = shallowRef<ShapeReport>();
const failure = ref('');
const busy = ref(false);
watch(collection, () => void look(), { immediate: true });

useOnReconnect(() => {
  if (failure.value !== '') void look();
});
async function look(): Promise<void> {
  const asked = collection.value;
  if (asked === '') return;
  busy.value = true;
  try {
    const found = await store.fetch<ShapeReport>(`/v1/shapes/${asked}`);
    if (asked !== collection.value) return;
    report.value = found;
    failure.value = '';
  } catch (error) {
    if (asked !== collection.value) return;
    report.value = undefined;
    failure.value = describeFailure(error);
  }
  busy.value = false;
}

type Field = ShapeReport['fields'][number];
const kindsOf = ({ types }: Field) =>
  Object.entries(types)
    .filter(([type]) => type !== 'null')
    .sort((a, b) => b[1] - a[1]);
const rows = computed(() =>
  (report.value?.fields ?? []).map((field) => ({
    ...field,
    share: field.documents / report.value!.documents,
    kinds: kindsOf(field),
    range: field.numbers
      ? `${field.numbers.min} … ${field.numbers.max}`
      : field.times
        ? `${field.times.min.slice(0, 10)} … ${field.times.max.slice(0, 10)}`
        : field.lengths
          ? `${field.lengths.min} … ${field.lengths.max} characters`
          : '',
    shift: field.recently - field.before,
  })),
);
/** Whether the schema is shown beside. */
const withSchema = computed(() => route.query.schema !== undefined);
function toggle(): void {
  void router.push({ name: 'shapes', params: route.params, query: withSchema.value ? {} : { schema: '' } });
}
const percent = (share: number) => `${(100 * share).toFixed(share > 0 && share < 0.01 ? 1 : 0)} %`;
/** Where the documents that have a field are to be seen. */
const whereFor = (name: string) => ({
  name: 'query',
  query: { from: collection.value, where: `${name} IS NOT NULL` },
});
</script>

<template>
  <PageFrame title="Shapes">
    <template #facts>
      <ChoiceBox
        :value="collection"
        :options="names"
        aria-label="Collection"
        @change="(name) => router.push({ name: 'shapes', params: { collection: name } })"
      />
      <span v-if="report" class="muted"
        >{{ report.documents.toLocaleString() }} documents analysed; the {{ report.recent.toLocaleString() }} newest
        compared with the others</span
      >
    </template>
    <template #tools>
      <Button size="small" :loading="busy" @click="look">Refresh</Button>
      <Button size="small" :type="withSchema ? 'primary' : 'default'" :aria-pressed="withSchema" @click="toggle"
        >Schema</Button
      >
    </template>
    <Alert v-if="failure" banner type="error" :message="failure" />
    <div v-else-if="!report" class="nothing muted">
      {{ collection === '' ? 'There are no documents yet.' : 'Loading…' }}
    </div>
    <div v-else-if="report.documents === 0" class="nothing">
      <b>No documents in “{{ collection }}”</b>
    </div>
    <div v-else class="both">
      <div class="table" :class="{ beside: withSchema }" tabindex="0" role="region" aria-label="Fields">
        <table class="plain pinned">
          <thead>
            <tr>
              <th scope="col">Field</th>
              <th scope="col" class="numeric">In</th>
              <th scope="col">Types</th>
              <th scope="col">Range</th>
              <th scope="col">Examples</th>
              <th scope="col">Newest</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="row in rows" :key="row.name">
              <td class="mono">
                <RouterLink v-if="!row.name.includes('[]')" :to="whereFor(row.name)">{{ row.name }}</RouterLink>
                <template v-else>{{ row.name }}</template>
                <Tag v-if="row.rare" color="warning" class="tag">rare</Tag>
                <small v-if="row.near.length > 0" class="muted">did you mean {{ row.near.join(' or ') }}?</small>
              </td>
              <td class="numeric">{{ percent(row.share) }}</td>
              <td :class="{ mixed: row.kinds.length > 1 }">
                <template v-if="row.kinds.length === 1">{{ row.kinds[0]![0] }}</template>
                <template v-else>{{
                  row.kinds.map(([type, count]) => `${count.toLocaleString()} ${type}`).join(', ')
                }}</template>
                <small v-if="row.types.null" class="muted"> {{ row.types.null.toLocaleString() }} null</small>
              </td>
              <td class="mono">{{ row.range }}</td>
              <td class="mono examples">
                {{ row.examples.map((example) => formatCell(example as JsonValue)).join(', ') }}
              </td>
              <td>
                <template v-if="row.shift > SHIFT"
                  ><b class="new">new</b> {{ percent(row.recently) }}, before {{ percent(row.before) }}</template
                >
                <template v-else-if="row.shift < -SHIFT"
                  ><b class="old">going</b> {{ percent(row.recently) }}, before {{ percent(row.before) }}</template
                >
                <span v-else class="muted">unchanged</span>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <SchemaPanel v-if="withSchema" :key="collection" :collection="collection" />
    </div>
  </PageFrame>
</template>

<style scoped>
.both {
  display: flex;
  flex: 1;
  min-height: 0;
}
.table {
  flex: 1 1 54%;
  min-width: 0;
  min-height: 0;
  overflow: auto;
}
a {
  color: var(--accent);
}
.tag {
  margin-left: 8px;
}
.mixed {
  color: var(--bad);
}
.examples {
  max-width: 210px;
  overflow: hidden;
  color: var(--ink-2);
  text-overflow: ellipsis;
}
/* Beside a schema there is room for what one compares it with. */
@media (max-width: 1700px) {
  .beside :is(th, td):nth-child(n + 4) {
    display: none;
  }
}
.new {
  color: var(--live);
}
.old {
  color: var(--warn);
}
@media (max-width: 900px) {
  .both {
    flex-direction: column;
    overflow-y: auto;
  }
  .table {
    flex: none;
    height: 45vh;
  }
}
</style>
