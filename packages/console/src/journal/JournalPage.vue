<script setup lang="ts">
import type { View } from '@uproar/client';
import { fieldChanges, isCollectionName } from '@uproar/core';
import { useWatch } from '@uproar/vue';
import { Alert, Button, Input } from 'ant-design-vue';
import { computed, defineAsyncComponent, ref, shallowRef, useTemplateRef, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import HoldButton from '../components/HoldButton.vue';
import PageFrame from '../components/PageFrame.vue';
import StateTag from '../components/StateTag.vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { vocabularyOf } from '../cql/vocabulary';
import { useStore } from '../shared/injection';
import ChangePanel from './ChangePanel.vue';
import type { JournalEvent } from '@uproar/protocol';
import { useJournal } from './use-journal';
import { kindOfChange } from '../shared/live-journal';
import OfferedQuery from '../unsaved/OfferedQuery.vue';
import { useTypedQuery } from '../unsaved/use-typed-query';

defineProps<{ collections: View | undefined }>();
const CqlEditor = defineAsyncComponent(() => import('../cql/CqlEditor.vue'));
const store = useStore();
const route = useRoute();
const router = useRouter();

const collection = computed(() => String(route.query.collection ?? ''));
const where = computed(() => String(route.query.where ?? ''));
const doc = computed(() => String(route.query.doc ?? ''));
const identity = computed(() => String(route.query.identity ?? ''));
const { typed, altered, offered, takeOffered, dropOffered } = useTypedQuery(
  () => 'journal',
  () => ({ doc: doc.value, where: where.value }),
);
const part = computed(() => ({
  collection: collection.value || undefined,
  doc: doc.value || undefined,
  where: where.value || undefined,
  identity: identity.value || undefined,
}));

const paused = ref(false);
const list = useTemplateRef<HTMLElement>('list');
/** Whether the list is being read further down: it stays as it is then. */
const scrolled = ref(false);
const { events, waiting, state, failure, more, reading, showEarlier, showNewer } = useJournal(
  store,
  part,
  () => paused.value || scrolled.value,
);
watch([paused, scrolled], ([isPaused, isScrolled]) => {
  if (!isPaused && !isScrolled) showNewer();
});
function toNewest(): void {
  list.value?.scrollTo({ top: 0 });
  scrolled.value = false;
}

/** The change that is open. It stays open when changes arrive above, and even when it has left the list. */
const open = shallowRef<JournalEvent>();
watch(part, () => (open.value = undefined));
watch(events, ([first]) => (open.value ??= first));

function narrow(changes: Record<string, string>): void {
  const query = { ...(route.query as Record<string, string>), ...changes };
  for (const name of Object.keys(query)) if (!query[name]) delete query[name];
  void router.push({ name: 'journal', query });
}

const documentFault = computed(() => typed.doc !== '' && !/^[a-z][a-z0-9-]{0,63}\/[\w.~-]{1,128}$/.test(typed.doc));
function runTyped(): void {
  if (!documentFault.value) narrow({ where: typed.where, doc: typed.doc });
}
/** Some documents of the collection, to complete conditions with. */
const sample = useWatch(() =>
  isCollectionName(collection.value) ? store.collection(collection.value).watch({ limit: 200 }) : undefined,
);

function summary({ data: { before, after } }: JournalEvent): string {
  if (!after) return before ? 'deleted' : 'erased';
  const changes = fieldChanges(before?.data ?? {}, after.data);
  const shown = changes.slice(0, 4).map((change) => `${change.name} ${short(change.after)}`);
  return shown.join(' · ') + (changes.length > 4 ? ` · and ${changes.length - 4} more` : '');
}
function short(value: unknown): string {
  const text = value === undefined ? 'removed' : JSON.stringify(value);
  return text.length > 28 ? `${text.slice(0, 27)}…` : text;
}

function step(event: KeyboardEvent, by: number): void {
  const at = events.value.findIndex(({ id }) => id === open.value?.id);
  const next = events.value[at + by];
  if (!next) return;
  event.preventDefault();
  open.value = next;
  const sibling = (event.target as HTMLElement)[by > 0 ? 'nextElementSibling' : 'previousElementSibling'];
  if (sibling instanceof HTMLElement) sibling.focus();
}
const MARKS = { created: '+', updated: '~', deleted: '−', erased: '×' };
</script>

<template>
  <PageFrame title="Journal">
    <template #facts>
      <StateTag :state="state" :paused="paused" />
      <span class="muted">all changes, the newest first</span>
    </template>
    <template #tools>
      <HoldButton v-model:paused="paused" :waiting="waiting" />
    </template>
    <form class="bar" role="search" @submit.prevent="runTyped">
      <ChoiceBox
        class="collection"
        allow-clear
        placeholder="all collections"
        aria-label="Collection"
        :value="collection || undefined"
        :options="(collections?.documents ?? []).map(({ id }) => ({ value: id, label: id }))"
        @change="(name) => narrow({ collection: String(name ?? ''), doc: '' })"
      />
      <Input
        v-model:value="typed.doc"
        class="document mono"
        placeholder="balloons/bl-17"
        aria-label="Document"
        :status="documentFault ? 'error' : ''"
        :title="documentFault ? 'A collection and an id, such as balloons/bl-17' : undefined"
      />
      <div class="where">
        <CqlEditor
          v-model="typed.where"
          label="where, before or after"
          lines="one"
          hint="where … such as status = 'aloft', before or after"
          :vocabulary="() => vocabularyOf(sample)"
          @run="runTyped"
        />
      </div>
      <Button html-type="submit" :type="altered ? 'primary' : 'default'" :disabled="documentFault">Run</Button>
    </form>
    <p v-if="identity" class="of">
      Only changes by <b class="mono">{{ identity }}</b>
      <Button size="small" type="link" @click="narrow({ identity: '' })">Show all</Button>
    </p>
    <OfferedQuery :fields="offered" @take="takeOffered" @drop="dropOffered" />
    <Alert v-if="failure" banner type="error" :message="failure" />
    <div v-if="state === 'loading'" class="nothing muted">Loading…</div>
    <div v-else-if="events.length === 0 && state !== 'failed'" class="nothing">
      <b
        >No {{ where || doc || collection || identity ? 'matching ' : '' }}changes{{
          more ? ' in this part of the journal' : ''
        }}</b
      >
      <span class="muted">New changes appear here.</span>
      <Button v-if="more" :loading="reading" @click="showEarlier">Look further back</Button>
    </div>
    <div v-else class="panes">
      <div ref="list" class="list" @scroll.passive="scrolled = ($event.target as HTMLElement).scrollTop > 4">
        <Button v-if="scrolled && !paused && waiting > 0" size="small" type="primary" class="newer" @click="toNewest"
          >{{ waiting.toLocaleString() }} newer {{ waiting === 1 ? 'change' : 'changes' }}</Button
        >
        <ol aria-label="Changes, newest first" role="listbox">
          <li
            v-for="event in events"
            :key="event.id"
            v-memo="[event.id === open?.id]"
            role="option"
            :tabindex="event.id === open?.id ? 0 : -1"
            :aria-selected="event.id === open?.id"
            :class="{ open: event.id === open?.id }"
            @click="open = event"
            @keydown.down="step($event, 1)"
            @keydown.up="step($event, -1)"
          >
            <span class="mark" :class="kindOfChange(event)" :aria-label="kindOfChange(event)">{{
              MARKS[kindOfChange(event)]
            }}</span>
            <span class="seq mono">{{ event.seq }}</span>
            <b class="subject mono">{{ event.subject }}</b>
            <span class="what mono">{{ summary(event) }}</span>
            <time class="muted" :datetime="event.time">{{ new Date(event.time).toLocaleTimeString() }}</time>
          </li>
        </ol>
        <Button v-if="more" size="small" type="link" class="more" :loading="reading" @click="showEarlier"
          >Show earlier changes</Button
        >
      </div>
      <ChangePanel v-if="open" :event="open" @only="(subject) => narrow({ doc: subject, collection: '' })" />
    </div>
  </PageFrame>
</template>

<style scoped>
.of {
  margin: 0;
  padding: 6px 16px;
  border-bottom: 1px solid var(--line);
}
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  padding: 8px 16px;
  border-bottom: 1px solid var(--line);
}
.collection {
  width: 160px;
}
.document {
  width: 170px;
}
.where {
  flex: 1 1 240px;
  min-width: 0;
  height: 28px;
}
.panes {
  display: grid;
  flex: 1;
  grid-template-columns: minmax(0, 1.15fr) minmax(0, 1fr);
  min-height: 0;
}
.list {
  overflow-y: auto;
  border-right: 1px solid var(--line);
}
ol {
  margin: 0;
  padding: 0;
  list-style: none;
}
li {
  display: grid;
  grid-template-columns: 16px 52px minmax(90px, 140px) minmax(0, 1fr) auto;
  gap: 8px;
  align-items: baseline;
  padding: 3px 16px;
  border-bottom: 1px solid var(--line);
  cursor: pointer;
  content-visibility: auto;
  contain-intrinsic-height: 28px;
}
li:hover {
  background: var(--paper-2);
}
li.open {
  background: var(--accent-soft);
}
.newer {
  position: sticky;
  top: 4px;
  z-index: 1;
  display: block;
  margin: 4px auto;
}
.more {
  display: block;
  margin: 4px auto;
}
.seq {
  color: var(--ink-3);
  text-align: right;
}
.subject,
.what {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.what {
  color: var(--ink-2);
}
.mark {
  font-weight: 700;
  text-align: center;
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
@media (max-width: 900px) {
  .panes {
    grid-template-columns: minmax(0, 1fr);
    grid-template-rows: minmax(0, 1fr) minmax(0, 1fr);
  }
  .list {
    border-right: 0;
    border-bottom: 1px solid var(--line);
  }
  li {
    grid-template-columns: 16px 44px minmax(80px, 110px) minmax(0, 1fr);
  }
  time {
    display: none;
  }
}
</style>
