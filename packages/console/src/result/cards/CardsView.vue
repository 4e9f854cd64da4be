<script setup lang="ts">
import type { Document, JsonValue } from '@uproar/client';
import { Button } from 'ant-design-vue';
import { computed, nextTick, reactive, ref, shallowRef, useTemplateRef, watch } from 'vue';
import ChoiceBox from '../../components/ChoiceBox.vue';
import OptionsBar from '../OptionsBar.vue';
import { describeFailure } from '../../shared/failure';
import { flash } from '../../shared/flash';
import { useNotices, useStore } from '../../shared/injection';
import { formatCell, labelOf as labelOfField, valueAt, type Field } from '../../table/fields';
import type { Frame } from '../../table/pausable-view';
import { useEditNotices } from '../../table/edit-notices';
import { noteSaved, undoLast } from '../../table/saved-edits';
import { writeField } from '../../table/write-field';
import { labelField, optionsOf } from '../field-choices';
import type { Presentation } from '../presentation';
import { canBeColumns, groupCards, MOST_COLUMNS, type CardColumn } from './group-cards';

/** Documents as cards, in columns by the value of a field. Dragging a card to another column writes that value. */
const props = defineProps<{
  collection: string;
  frame: Frame;
  fields: readonly Field[];
  presentation: Presentation;
  selected: string;
  /** Whether cards can be moved. */
  editable: boolean;
  bare?: boolean;
}>();
const emit = defineEmits<{ present: [change: Partial<Presentation>]; open: [id: string] }>();
const store = useStore();
const notices = useNotices();
const messages = useEditNotices();
const board = useTemplateRef<HTMLElement>('board');

/** Cards of a column that are drawn at first, and more of them each time. */
const CARDS_AT_ONCE = 60;
const MOST_FACTS = 3;

const documents = computed(() => props.frame.view.documents);
const candidates = computed(() => props.fields.filter((field) => canBeColumns(field, documents.value)));
const field = computed(
  () =>
    props.fields.find(({ name }) => name === props.presentation.field) ??
    candidates.value.find(({ name }) => name === 'status' || name === 'state') ??
    candidates.value[0],
);
const choices = computed(() => {
  const chosen = field.value && !candidates.value.includes(field.value) ? [field.value] : [];
  return optionsOf([...chosen, ...candidates.value]);
});
const texts = computed(() => props.fields.filter(({ type }) => type === 'text'));
const label = computed(() => labelField(props.fields, props.presentation.label));
const facts = computed(() =>
  props.fields
    .filter(
      (one) => one !== field.value && one !== label.value && ['text', 'number', 'yes/no', 'time'].includes(one.type),
    )
    .slice(0, MOST_FACTS),
);

const known = shallowRef(new Map<string, JsonValue | undefined>());
const columns = computed(() => (field.value ? groupCards(documents.value, field.value.path, known.value) : []));
const shown = computed(() => columns.value.slice(0, MOST_COLUMNS));
watch([() => props.collection, () => field.value?.name], () => (known.value = new Map()), { flush: 'sync' });
watch(
  columns,
  (now) => {
    if (now.length > known.value.size) known.value = new Map(now.map(({ key, value }) => [key, value]));
  },
  { immediate: true },
);
const most = reactive<Record<string, number>>({});
const mostOf = ({ key }: CardColumn) => most[key] ?? CARDS_AT_ONCE;
const labelOf = ({ id, data }: Document) => formatCell(label.value && valueAt(data, label.value.path)) || id;

// A card that was moved stands in its new column at once.
watch(
  () => props.frame,
  async ({ altered, view }) => {
    if (altered.size === 0) return;
    await nextTick();
    for (const [id, before] of altered) {
      if (view.byId.has(id)) flash(cardElement(id), before ? 'changed' : 'entered');
    }
  },
);

const dragged = shallowRef<Document>();
const over = ref<string>();
function begin(document: Document, event: DragEvent): void {
  dragged.value = document;
  event.dataTransfer!.effectAllowed = 'move';
  event.dataTransfer!.setData('text/plain', document.id);
}
function drop(column: CardColumn): void {
  const document = dragged.value;
  end();
  if (document) void move(document, column.value);
}
function end(): void {
  dragged.value = undefined;
  over.value = undefined;
}

/** Writes the value of a column into a document, on the condition that it still has the value that is shown. */
async function move(document: Document, to: JsonValue | undefined): Promise<void> {
  const { path, name } = field.value!;
  const before = valueAt(document.data, path);
  if (before === to) return;
  const address = { collection: props.collection, id: document.id, path };
  try {
    const outcome = await writeField(store, address, before, to);
    if (outcome.kind === 'written') return noteSaved(store, { ...address, name, before, after: to }, messages);
    const gone = outcome.kind === 'gone';
    const description = gone
      ? 'It was deleted meanwhile.'
      : `Another user moved it to ${formatCell(outcome.value) || 'no value'}.`;
    notices.error({ message: `Not moved: ${document.id}`, description });
  } catch (error) {
    notices.error({ message: `Not moved: ${document.id}`, description: describeFailure(error) });
  }
}

const active = ref<string>();
/** The card by which the keyboard comes in. */
const entry = computed(() => {
  const left = shown.value.some((column) => column.documents.some(({ id }) => id === active.value));
  return left ? active.value : shown.value.find((column) => column.documents.length > 0)?.documents[0]!.id;
});
const cardElement = (id: string) => board.value?.querySelector<HTMLElement>(`[data-card="${CSS.escape(id)}"]`);

function onKey(event: KeyboardEvent): void {
  if (event.key.toLowerCase() === 'z' && (event.ctrlKey || event.metaKey) && !event.shiftKey) {
    event.preventDefault();
    return undoLast(store, props.collection, messages);
  }
  const id = (event.target as HTMLElement).dataset.card;
  const at = shown.value.findIndex((column) => column.documents.some((document) => document.id === id));
  const column = shown.value[at];
  if (id === undefined || !column) return;
  const row = column.documents.findIndex((document) => document.id === id);
  const sideways = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
  const upwards = { ArrowUp: -1, ArrowDown: 1 }[event.key];
  if (event.key === 'Enter') emit('open', id);
  else if (upwards !== undefined) focus(column.documents[row + upwards]?.id);
  else if (sideways === undefined) return;
  else if ((event.ctrlKey || event.metaKey) && props.editable) {
    const next = shown.value[at + sideways];
    if (next) void move(column.documents[row]!, next.value).then(() => refocus(id));
  } else {
    const others = sideways < 0 ? shown.value.slice(0, at).reverse() : shown.value.slice(at + 1);
    const next = others.find(({ documents: cards }) => cards.length > 0);
    focus(next?.documents[Math.min(row, next.documents.length - 1)]!.id);
  }
  event.preventDefault();
}

function focus(id: string | undefined): void {
  if (id === undefined) return;
  active.value = id;
  cardElement(id)?.focus();
}

/** A card that was moved with the keyboard keeps the focus in its new column. */
function refocus(id: string): void {
  active.value = id;
  requestAnimationFrame(() => requestAnimationFrame(() => cardElement(id)?.focus()));
}
</script>

<template>
  <section class="cards" aria-label="Cards">
    <OptionsBar v-if="!bare">
      <label
        >columns by
        <ChoiceBox
          small
          :value="field?.name"
          :options="choices"
          @change="(name) => emit('present', { field: name ?? '' })"
      /></label>
      <label
        >name
        <ChoiceBox
          small
          :value="label?.name"
          :options="optionsOf(texts)"
          @change="(name) => emit('present', { label: name ?? '' })"
      /></label>
      <span class="muted at-end">{{
        editable ? 'Drag a card, or move it with Ctrl+← and Ctrl+→' : 'Cards cannot be moved here'
      }}</span>
    </OptionsBar>
    <div v-if="field" ref="board" class="board" @keydown="onKey">
      <section
        v-for="column in shown"
        :key="column.key"
        class="column"
        :class="{ over: over === column.key && dragged }"
        :aria-label="column.title"
        @dragover="
          (event) => {
            if (!dragged) return;
            event.preventDefault();
            over = column.key;
          }
        "
        @drop.stop.prevent="drop(column)"
      >
        <h2 :class="{ muted: column.value === undefined }">
          <span class="title" :title="column.title">{{ column.title }}</span>
          <output>{{ column.documents.length.toLocaleString() }}</output>
        </h2>
        <div class="stack" tabindex="-1">
          <article
            v-for="document in column.documents.slice(0, mostOf(column))"
            :key="document.id"
            class="card"
            :class="{ selected: document.id === selected, dragged: dragged?.id === document.id }"
            :data-card="document.id"
            :draggable="editable"
            :tabindex="document.id === entry ? 0 : -1"
            role="button"
            @dragstart="begin(document, $event)"
            @dragend="end"
            @focus="active = document.id"
            @click="emit('open', document.id)"
          >
            <b>{{ labelOf(document) }}</b>
            <span class="mono id">{{ document.id }}</span>
            <template v-for="fact in facts" :key="fact.name">
              <span v-if="(valueAt(document.data, fact.path) ?? null) !== null" class="fact"
                ><span class="muted">{{ labelOfField(fact) }}</span>
                {{ formatCell(valueAt(document.data, fact.path)) }}</span
              >
            </template>
          </article>
          <Button
            v-if="column.documents.length > mostOf(column)"
            size="small"
            type="text"
            @click="most[column.key] = mostOf(column) + CARDS_AT_ONCE"
            >Show {{ Math.min(CARDS_AT_ONCE, column.documents.length - mostOf(column)) }} more of
            {{ (column.documents.length - mostOf(column)).toLocaleString() }}</Button
          >
        </div>
      </section>
      <p v-if="columns.length > shown.length" class="muted">
        {{ columns.length - shown.length }} more values of {{ field.name }} are not shown.
      </p>
    </div>
    <div v-else class="nothing">
      <b>No field has few enough values to be columns</b>
      <span class="muted">A field such as status, with up to {{ MOST_COLUMNS }} different texts, can be.</span>
    </div>
  </section>
</template>

<style scoped>
.cards {
  display: flex;
  flex: 1;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
}
.board {
  display: flex;
  flex: 1;
  gap: 10px;
  min-height: 0;
  padding: 12px 16px;
  overflow-x: auto;
}
.column {
  display: flex;
  flex: 1 0 190px;
  flex-direction: column;
  max-width: 300px;
  min-height: 0;
  border-radius: 8px;
  background: var(--paper-2);
}
.over {
  outline: 2px solid var(--accent);
}
h2 {
  display: flex;
  gap: 8px;
  justify-content: space-between;
  margin: 0;
  padding: 8px 12px 4px;
  font-size: 13px;
}
.title {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
output {
  color: var(--ink-3);
  font-weight: 400;
  font-variant-numeric: tabular-nums;
}
.stack {
  display: flex;
  flex: 1;
  flex-direction: column;
  gap: 6px;
  min-height: 0;
  padding: 4px 8px 8px;
  overflow-y: auto;
}
.card {
  display: grid;
  flex: none;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 0 8px;
  padding: 6px 10px;
  border: 1px solid var(--line);
  border-radius: 6px;
  background: var(--paper);
  cursor: pointer;
}
.card:hover,
.selected {
  border-color: var(--accent);
}
.dragged {
  opacity: 0.4;
}
b {
  overflow: hidden;
  font-weight: 600;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.id {
  color: var(--ink-3);
}
.fact {
  grid-column: 1 / -1;
  overflow: hidden;
  font-size: 12px;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
