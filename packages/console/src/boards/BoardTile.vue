<script setup lang="ts">
import { useWatch } from '@uproar/vue';
import { Button, Dropdown, Menu, MenuItem } from 'ant-design-vue';
import { computed, defineAsyncComponent } from 'vue';
import { useRouter } from 'vue-router';
import StateTag from '../components/StateTag.vue';
import { formOf } from '../queries/bench-query';
import { isRelated, withRelated } from '../result/related-columns';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { findFields, formatCell, labelOf, valueAt } from '../table/fields';
import { usePausableView } from '../table/pausable-view';
import { addressOf, COLUMNS, MOST_ROWS, type SavedQuery, type Tile } from '../queries/saved-queries';

/** A live result on a board. */
const props = defineProps<{
  tile: Tile;
  /** Undefined: it does not exist, or is not known yet. */
  saved: SavedQuery | undefined;
  known: boolean;
  collections: readonly string[];
  place: number;
  places: number;
}>();
const emit = defineEmits<{ alter: [tile: Tile]; move: [by: number]; remove: [] }>();
const DrawnResult = defineAsyncComponent(() => import('../result/DrawnResult.vue'));
const store = useStore();
const notices = useNotices();
const router = useRouter();

/** Rows of a table on a board, and its columns. */
const MOST_ROWS_SHOWN = 100;
const MOST_COLUMNS = 8;

const key = computed(() => JSON.stringify(props.saved?.query));
const view = useWatch(() => {
  if (key.value === undefined) return undefined;
  try {
    const { from, ...query } = formOf(JSON.parse(key.value) as SavedQuery['query']);
    return store.collection(from).watch(query as object);
  } catch (error) {
    notices.error({ message: `Not shown: ${props.saved!.name}`, description: describeFailure(error) });
    return undefined;
  }
});
const { frame: calm } = usePausableView(view);
const frame = computed(() => calm.value && withRelated(calm.value));
const totals = computed(() => (props.saved?.query.summary ?? '') !== '');
const documents = computed(() => frame.value?.view.documents ?? []);
/** A single total is written large. */
const single = computed(() => {
  if (!totals.value || documents.value.length !== 1) return undefined;
  const entries = Object.entries(documents.value[0]!.data);
  return entries.length <= 3 ? entries.map(([name, value]) => ({ name, value: formatCell(value) })) : undefined;
});
const columns = computed(() => findFields(documents.value.slice(0, MOST_ROWS_SHOWN), new Set()).slice(0, MOST_COLUMNS));
const drawn = computed(() => props.saved && props.saved.presentation.show !== 'table');

function open(id: string): void {
  if (!totals.value) void router.push({ name: 'data', params: { collection: props.saved!.query.from, id } });
}
</script>

<template>
  <section
    class="tile"
    :style="{ '--width': tile.width, '--height': tile.height }"
    :aria-label="saved?.name ?? tile.query"
  >
    <header>
      <RouterLink v-if="saved" :to="addressOf(saved)" class="name" title="Open the query">{{ saved.name }}</RouterLink>
      <span v-else class="name muted">{{ tile.query }}</span>
      <span v-if="view && !totals && view.state !== 'failed'" class="muted count"
        >{{ documents.length.toLocaleString() }}{{ view.more ? '+' : '' }}</span
      >
      <StateTag v-if="view && view.state !== 'live'" :state="view.state" :paused="false" />
      <Dropdown :trigger="['click']">
        <Button type="text" size="small" :aria-label="`Change ${saved?.name ?? tile.query}`">⋯</Button>
        <template #overlay>
          <Menu>
            <MenuItem v-if="tile.width < COLUMNS" key="wider" @click="emit('alter', { ...tile, width: tile.width + 1 })"
              >Wider</MenuItem
            >
            <MenuItem v-if="tile.width > 2" key="narrower" @click="emit('alter', { ...tile, width: tile.width - 1 })"
              >Narrower</MenuItem
            >
            <MenuItem
              v-if="tile.height < MOST_ROWS"
              key="taller"
              @click="emit('alter', { ...tile, height: tile.height + 1 })"
              >Taller</MenuItem
            >
            <MenuItem v-if="tile.height > 1" key="lower" @click="emit('alter', { ...tile, height: tile.height - 1 })"
              >Lower</MenuItem
            >
            <MenuItem v-if="place > 0" key="earlier" @click="emit('move', -1)">Move forward</MenuItem>
            <MenuItem v-if="place < places - 1" key="later" @click="emit('move', 1)">Move back</MenuItem>
            <MenuItem key="remove" @click="emit('remove')">Remove from the board</MenuItem>
          </Menu>
        </template>
      </Dropdown>
    </header>
    <p v-if="!saved" class="empty muted">
      {{ known ? `The saved query “${tile.query}” does not exist.` : 'Loading…' }}
    </p>
    <p v-else-if="view?.error" class="empty bad">{{ view.error.detail }}</p>
    <p v-else-if="!frame || frame.view.state === 'loading'" class="empty muted">Loading…</p>
    <dl v-else-if="single" class="single">
      <div v-for="{ name, value } in single" :key="name">
        <dd>{{ Number.isFinite(Number(value)) ? Number(Number(value).toFixed(2)).toLocaleString() : value }}</dd>
        <dt class="muted">{{ name }}</dt>
      </div>
    </dl>
    <p v-else-if="documents.length === 0" class="empty muted">No document matches</p>
    <DrawnResult
      v-else-if="drawn"
      :collection="saved.query.from"
      :where="saved.query.where"
      :frame="frame"
      :presentation="saved.presentation"
      :totals="totals"
      :picked="new Set()"
      selected=""
      :editable="saved.query.fields === ''"
      :collections="collections"
      bare
      @open="open"
    />
    <div v-else class="rows" tabindex="0" role="group" :aria-label="`Rows of ${saved.name}`">
      <table class="plain pinned">
        <thead>
          <tr>
            <th v-for="column in columns" :key="column.name" scope="col" :class="{ numeric: column.numeric }">
              {{ labelOf(column) }}
            </th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="document in documents.slice(0, MOST_ROWS_SHOWN)"
            :key="document.id"
            :class="{ link: !totals }"
            @click="open(document.id)"
          >
            <td
              v-for="column in columns"
              :key="column.name"
              :class="{ numeric: column.numeric, muted: isRelated(column.path) }"
            >
              {{ formatCell(valueAt(document.data, column.path)) }}
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="documents.length > MOST_ROWS_SHOWN" class="muted more">
        The first {{ MOST_ROWS_SHOWN }} rows are shown.
      </p>
    </div>
  </section>
</template>

<style scoped>
.tile {
  display: flex;
  grid-column: span var(--width);
  grid-row: span var(--height);
  flex-direction: column;
  min-width: 0;
  min-height: 0;
  overflow: hidden;
  border: 1px solid var(--line);
  border-radius: 8px;
  background: var(--paper);
}
header {
  display: flex;
  gap: 8px;
  align-items: center;
  padding: 4px 6px 4px 12px;
  border-bottom: 1px solid var(--line);
}
.name {
  overflow: hidden;
  color: var(--ink);
  font-weight: 600;
  text-decoration: none;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.name:hover {
  color: var(--accent);
}
.count {
  margin-right: auto;
  font-variant-numeric: tabular-nums;
}
header :deep(.ant-btn) {
  margin-left: auto;
}
.empty {
  margin: auto;
  padding: 12px;
  text-align: center;
}
.bad {
  color: var(--bad);
}
.single {
  display: flex;
  flex: 1;
  flex-wrap: wrap;
  gap: 8px 40px;
  align-items: center;
  justify-content: center;
  margin: 0;
  text-align: center;
}
.single dd {
  margin: 0;
  font-size: 40px;
  font-variant-numeric: tabular-nums;
  line-height: 1.2;
}
.rows {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
.rows td {
  max-width: 240px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.link {
  cursor: pointer;
}
.link:hover td {
  background: var(--paper-2);
}
.more {
  padding: 4px 16px;
}
@media (max-width: 900px) {
  .tile {
    grid-column: 1 / -1;
  }
}
</style>
