<script setup lang="ts">
import type { View } from '@uproar/client';
import { useWatch } from '@uproar/vue';
import { Button, Input, Popconfirm } from 'ant-design-vue';
import { computed, ref, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { deleteWithUndo } from '../actions/undo';
import ChoiceBox from '../components/ChoiceBox.vue';
import PageFrame from '../components/PageFrame.vue';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import {
  BOARDS,
  changeTiles,
  createNamed,
  MOST_TILES,
  QUERIES,
  readBoard,
  readSavedQuery,
  type Tile,
} from '../queries/saved-queries';
import BoardTile from './BoardTile.vue';

/** Boards: several saved queries side by side, each live. */
const props = defineProps<{ collections: View | undefined }>();
const store = useStore();
const notices = useNotices();
const route = useRoute();
const router = useRouter();

const MOST_LISTED = 200;
const boardsView = useWatch(() => store.collection(BOARDS).watch({ order: 'name', limit: MOST_LISTED }));
const queriesView = useWatch(() => store.collection(QUERIES).watch({ order: 'name', limit: MOST_LISTED }));
const boards = computed(() => (boardsView.value?.documents ?? []).map(readBoard));
const queries = computed(() => (queriesView.value?.documents ?? []).flatMap((one) => readSavedQuery(one) ?? []));
const known = computed(() => queriesView.value !== undefined && queriesView.value.state !== 'loading');
const id = computed(() => String(route.params.id ?? ''));
const board = computed(() => boards.value.find((one) => one.id === id.value));
const names = computed(() => (props.collections?.documents ?? []).map((one) => one.id));
const failure = computed(() => boardsView.value?.error?.detail ?? queriesView.value?.error?.detail);

// Without a board in the address the first one is shown.
watch(
  [id, boards],
  () => {
    const first = boards.value[0];
    if (id.value === '' && first) void router.replace({ name: 'boards', params: { id: first.id } });
  },
  { immediate: true },
);

async function change(act: (tiles: readonly Tile[]) => readonly Tile[] | undefined): Promise<void> {
  try {
    await changeTiles(store, board.value!.id, act);
  } catch (error) {
    notices.error({ message: 'The board was not changed', description: describeFailure(error) });
  }
}
/** Changes the tiles, if no other user has changed them since they were drawn. */
function changeShown(act: (tiles: Tile[]) => readonly Tile[]): void {
  const seen = JSON.stringify(board.value!.tiles);
  void change((tiles) => {
    if (JSON.stringify(tiles) !== seen)
      throw new Error('Another user changed it at the same moment. Look, and try again.');
    return act([...tiles]);
  });
}
function alter(place: number, tile: Tile | undefined): void {
  changeShown((tiles) => [...tiles.slice(0, place), ...(tile ? [tile] : []), ...tiles.slice(place + 1)]);
}
function move(place: number, by: number): void {
  changeShown((tiles) => {
    const [tile] = tiles.splice(place, 1);
    tiles.splice(place + by, 0, tile!);
    return tiles;
  });
}
function add(query: string | undefined): void {
  if (query !== undefined) void change((tiles) => [...tiles, { query, width: 3, height: 1 }]);
}

const naming = ref(false);
const name = ref('');
async function create(): Promise<void> {
  if (name.value.trim() === '') return;
  try {
    const created = await createNamed(store, BOARDS, name.value, { name: name.value.trim(), tiles: [] });
    naming.value = false;
    name.value = '';
    await router.push({ name: 'boards', params: { id: created } });
  } catch (error) {
    notices.error({ message: 'The board was not created', description: describeFailure(error) });
  }
}
async function remove(): Promise<void> {
  const document = boardsView.value?.documents.find((one) => one.id === id.value);
  if (!document) return;
  await router.push({ name: 'boards', params: { id: '' } });
  await deleteWithUndo(store, notices, BOARDS, [document]);
}
const addable = computed(() => queries.value.map((one) => ({ value: one.id, label: one.name })));
</script>

<template>
  <PageFrame :title="board?.name ?? 'Boards'">
    <template #tools>
      <ChoiceBox
        v-if="boards.length > 1"
        small
        aria-label="Board"
        :value="board?.id"
        :options="boards.map((one) => ({ value: one.id, label: one.name }))"
        @change="(chosen) => router.push({ name: 'boards', params: { id: chosen } })"
      />
      <ChoiceBox
        v-if="board && addable.length > 0 && board.tiles.length < MOST_TILES"
        :key="board.tiles.length"
        small
        aria-label="Add a query"
        placeholder="Add a query…"
        :value="undefined"
        :options="addable"
        @change="add"
      />
      <Popconfirm
        v-if="board"
        :title="`Delete the board “${board.name}”?`"
        description="Its queries stay. You can undo this."
        ok-text="Delete"
        :ok-button-props="{ danger: true }"
        @confirm="remove"
      >
        <Button size="small">Delete</Button>
      </Popconfirm>
      <form v-if="naming" class="naming" @submit.prevent="create">
        <Input
          v-model:value="name"
          size="small"
          aria-label="Name of the board"
          placeholder="Name of the board"
          :maxlength="80"
          autofocus
        />
        <Button size="small" type="primary" html-type="submit" :disabled="name.trim() === ''">Create</Button>
        <Button size="small" type="text" @click="naming = false">Cancel</Button>
      </form>
      <Button v-else size="small" type="primary" @click="naming = true">New board</Button>
    </template>
    <p v-if="failure" class="nothing bad">{{ failure }}</p>
    <div v-else-if="boardsView?.state === 'live' && boards.length === 0" class="nothing">
      <b>There are no boards yet</b>
      <span class="muted"
        >A board shows several saved queries side by side, each live, at an address you can share.</span
      >
      <span class="muted"
        >Save a query on the page <RouterLink :to="{ name: 'query' }">Query</RouterLink>, then create a board
        here.</span
      >
    </div>
    <div v-else-if="boardsView?.state === 'live' && id !== '' && !board" class="nothing">
      <b>The board “{{ id }}” does not exist</b>
      <span class="muted">It may have been deleted.</span>
    </div>
    <div v-else-if="board && board.tiles.length === 0" class="nothing">
      <b>The board is empty</b>
      <span class="muted">{{
        addable.length > 0 ? 'Add a query above.' : 'Save a query on the page Query first.'
      }}</span>
    </div>
    <div v-else-if="board" class="board">
      <BoardTile
        v-for="(tile, place) in board.tiles"
        :key="`${tile.query}-${board.tiles.slice(0, place).filter((one) => one.query === tile.query).length}`"
        :tile="tile"
        :saved="queries.find((one) => one.id === tile.query)"
        :known="known"
        :collections="names"
        :place="place"
        :places="board.tiles.length"
        @alter="(changed) => alter(place, changed)"
        @move="(by) => move(place, by)"
        @remove="alter(place, undefined)"
      />
    </div>
  </PageFrame>
</template>

<style scoped>
.board {
  display: grid;
  flex: 1;
  grid-auto-rows: 270px;
  grid-template-columns: repeat(6, minmax(0, 1fr));
  gap: 12px;
  align-content: start;
  min-height: 0;
  padding: 12px 16px;
  overflow-y: auto;
  background: var(--paper-2);
}
.naming {
  display: flex;
  gap: 6px;
}
.bad {
  color: var(--bad);
}
@media (max-width: 900px) {
  .board {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
