<script setup lang="ts">
import { isProblem, type Document, type JsonObject, type JsonValue } from '@uproar/client';
import { fieldChanges, keepEnd, type FieldChange } from '@uproar/core';
import { Alert, Button, Empty, Popconfirm, Spin, Tag } from 'ant-design-vue';
import { computed, ref, watch } from 'vue';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { useOnReconnect } from '../shared/use-on-reconnect';
import type { JournalEvent } from '@uproar/protocol';
import { kindOfChange, readJournal } from '../shared/live-journal';

const props = defineProps<{ collection: string; id: string; now: Document | undefined }>();
const store = useStore();
const notices = useNotices();

const PAGE = 30;
const events = ref<JournalEvent[]>([]);
const more = ref(false);
const first = ref(0);
const loading = ref(true);
const failure = ref('');

const entries = computed(() =>
  events.value.map((event) => {
    const { before, after } = event.data;
    return {
      ...event,
      kind: kindOfChange(event),
      before,
      after,
      changes: fieldChanges(before?.data ?? {}, after?.data ?? {}),
      isNow: (after?.version ?? 0) === (props.now?.version ?? 0) && event === events.value[0],
    };
  }),
);

async function fetchPage(before: number | 'now'): Promise<void> {
  loading.value = true;
  try {
    const page = await readJournal(store, { doc: `${props.collection}/${props.id}` }, before, PAGE);
    const known = new Set(page.events.map(({ id }) => id));
    const rest = events.value.filter(({ id }) => !known.has(id));
    // A page from the top overlaps with the displayed entries, unless more was written than fits on a page.
    const meets = before !== 'now' || rest.length < events.value.length;
    events.value = before === 'now' ? [...page.events, ...(meets ? rest : [])] : [...rest, ...page.events];
    if (before !== 'now' || !meets || rest.length === 0) more.value = page.more;
    first.value = page.first;
    failure.value = '';
  } catch (error) {
    failure.value = describeFailure(error);
  }
  loading.value = false;
}

useOnReconnect(() => {
  if (failure.value !== '') void fetchPage('now');
});
watch(
  () => [props.collection, props.id],
  () => {
    events.value = [];
    void fetchPage('now');
  },
  { immediate: true },
);
watch(
  () => props.now?.version,
  () => void fetchPage('now'),
);

function show(value: JsonValue | undefined): string {
  if (value === undefined) return '–';
  return typeof value === 'string' ? value : JSON.stringify(value);
}

function labelOf({ name }: FieldChange): string {
  return name === '' ? '(no name)' : name;
}

/** Restores the document to its state after a commit, unless it has been written since it was displayed. */
async function putBack(seq: number, data: JsonObject | undefined): Promise<void> {
  const documents = store.collection(props.collection);
  const ifVersion = props.now?.version ?? 0;
  try {
    if (data) await documents.put(props.id, data, { ifVersion, ...keepEnd(props.now) });
    else await documents.delete(props.id, { ifVersion });
    notices.success({ message: `Restored ${props.id} to seq ${seq}`, duration: 3 });
  } catch (error) {
    const description = isProblem(error, 'version-mismatch')
      ? 'It was changed meanwhile. Check the current state, and try again.'
      : describeFailure(error);
    notices.error({ message: `${props.id} was not restored`, description });
  }
}
</script>

<template>
  <div class="history">
    <Alert v-if="failure" type="error" show-icon :message="failure" />
    <Spin v-if="loading && events.length === 0" />
    <Empty
      v-else-if="entries.length === 0 && !failure"
      :image="Empty.PRESENTED_IMAGE_SIMPLE"
      description="The journal has no changes of this document."
    />
    <ol v-else :aria-label="`Changes of ${id}, newest first`">
      <li v-for="entry in entries" :key="entry.id" :class="entry.kind">
        <header>
          <span class="seq mono">{{ entry.seq }}</span>
          <Tag :bordered="false" :class="`kind ${entry.kind}`">{{ entry.kind }}</Tag>
          <time :datetime="entry.time">{{ new Date(entry.time).toLocaleString() }}</time>
          <span class="who">{{ entry.identity }}</span>
          <span v-if="entry.isNow" class="now">current</span>
          <RouterLink
            v-if="entry.after && !entry.isNow"
            class="compare"
            :to="{
              name: 'compare',
              query: { a: `${collection}/${id}@${entry.seq}`, b: `${collection}/${id}` },
            }"
            >Compare with now</RouterLink
          >
          <Popconfirm
            v-if="!entry.isNow && entry.kind !== 'erased'"
            :title="entry.after ? `Restore ${id} to its state at seq ${entry.seq}?` : `Delete ${id} again?`"
            description="This is a new change, which you can also undo."
            :ok-text="entry.after ? 'Restore' : 'Delete'"
            placement="left"
            @confirm="putBack(entry.seq, entry.after?.data)"
          >
            <Button size="small" type="text" class="back" :disabled="!entry.after && !now">Restore</Button>
          </Popconfirm>
        </header>
        <p v-if="entry.changes.length === 0" class="muted">
          {{ entry.kind === 'erased' ? 'what it held has been erased' : 'written without changes' }}
        </p>
        <table v-else>
          <tbody>
            <tr v-for="change in entry.changes" :key="change.pointer">
              <th scope="row" class="mono" :title="change.pointer">{{ labelOf(change) }}</th>
              <td v-if="entry.kind !== 'created'" class="mono was" :title="show(change.before)">
                {{ show(change.before) }}
              </td>
              <td v-if="entry.kind !== 'deleted'" class="mono is" :title="show(change.after)">
                <span v-if="entry.kind === 'updated'" class="arrow" aria-label="then">→</span>
                {{ show(change.after) }}
              </td>
            </tr>
          </tbody>
        </table>
      </li>
    </ol>
    <footer v-if="entries.length > 0">
      <Button v-if="more" size="small" :loading="loading" @click="fetchPage(events.at(-1)!.seq)"
        >Show earlier changes</Button
      >
      <span v-else class="muted">The journal reaches back to seq {{ first }}.</span>
    </footer>
  </div>
</template>

<style scoped>
.history {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
ol {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  padding: 10px 0 12px 12px;
  border-left: 2px solid var(--line);
}
li.created {
  border-left-color: var(--live);
}
li.deleted {
  border-left-color: var(--bad);
}
header {
  display: flex;
  align-items: center;
  gap: 8px;
  min-height: 24px;
  font-size: 12.5px;
  color: var(--ink-2);
}
.seq {
  color: var(--ink);
  font-weight: 600;
}
.kind {
  margin: 0;
  background: var(--paper-3);
  color: var(--ink-2);
}
.kind.created {
  background: var(--live-soft);
  color: var(--live);
}
.kind.deleted {
  background: var(--bad-soft);
  color: var(--bad);
}
.who {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.now {
  color: var(--live);
}
.back {
  color: var(--accent);
}
table {
  width: 100%;
  table-layout: fixed;
  border-collapse: collapse;
  margin-top: 4px;
  font-size: 12px;
}
th {
  width: 30%;
  text-align: left;
  font-weight: 400;
  color: var(--ink-2);
}
th,
td {
  padding: 2px 8px 2px 0;
  vertical-align: top;
  overflow: hidden;
  display: table-cell;
  overflow-wrap: anywhere;
}
.was {
  color: var(--bad);
}
.is {
  color: var(--live);
}
.arrow {
  color: var(--ink-3);
}
.created .is,
.deleted .was {
  color: var(--bad);
}
footer {
  padding: 12px 0;
  font-size: 12px;
}
</style>
