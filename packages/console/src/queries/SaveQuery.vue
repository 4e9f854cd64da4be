<script setup lang="ts">
import { useWatch } from '@uproar/vue';
import { Button, Dropdown, Input, Menu, MenuItem, Modal } from 'ant-design-vue';
import { computed, ref } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import ChoiceBox from '../components/ChoiceBox.vue';
import type { BenchQuery } from './bench-query';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import type { Presentation } from '../result/presentation';
import {
  addressOf,
  BOARDS,
  changeTiles,
  createNamed,
  MOST_TILES,
  QUERIES,
  readBoard,
  readSavedQuery,
  writeSavedQuery,
} from './saved-queries';

/** Opens saved queries, and saves the one that is shown. */
const props = defineProps<{ query: BenchQuery; presentation: Presentation }>();
const store = useStore();
const notices = useNotices();
const route = useRoute();
const router = useRouter();

const MOST_LISTED = 200;
const wanted = ref(false);
const naming = ref(false);
/** The saved query that the address began with. */
const savedId = computed(() => String(route.query.saved ?? ''));
const view = useWatch(() =>
  wanted.value || savedId.value !== ''
    ? store.collection(QUERIES).watch({ order: 'name', limit: MOST_LISTED })
    : undefined,
);
const boardsView = useWatch(() =>
  naming.value ? store.collection(BOARDS).watch({ order: 'name', limit: MOST_LISTED }) : undefined,
);
const queries = computed(() => (view.value?.documents ?? []).flatMap((document) => readSavedQuery(document) ?? []));
const boards = computed(() => (boardsView.value?.documents ?? []).map(readBoard));
const saved = computed(() => queries.value.find(({ id }) => id === savedId.value));
const altered = computed(
  () =>
    saved.value !== undefined &&
    JSON.stringify(writeSavedQuery('', props.query, props.presentation)) !==
      JSON.stringify(writeSavedQuery('', saved.value.query, saved.value.presentation)),
);

const name = ref('');
const board = ref<string>();
const busy = ref(false);

async function save(): Promise<void> {
  const named = name.value.trim();
  if (named === '') return;
  busy.value = true;
  let id: string | undefined;
  const chosen = boards.value.find((one) => one.id === board.value);
  try {
    id = await createNamed(store, QUERIES, named, writeSavedQuery(named, props.query, props.presentation));
    naming.value = false;
    await router.replace({ name: 'query', query: { ...route.query, saved: id } });
    if (chosen) {
      const tile = { query: id, width: 3, height: 1 };
      await changeTiles(store, chosen.id, (tiles) => (tiles.length < MOST_TILES ? [...tiles, tile] : undefined));
    }
    const description = chosen && `It is on the board “${chosen.name}”.`;
    notices.success({ message: `Saved “${named}”`, description, duration: 4 });
  } catch (error) {
    const message = id === undefined ? 'Not saved' : `Saved “${named}”, but not put on the board`;
    notices.error({ message, description: describeFailure(error) });
  } finally {
    busy.value = false;
  }
}

async function update(): Promise<void> {
  const { id, version, name: kept } = saved.value!;
  try {
    await store
      .collection(QUERIES)
      .put(id, writeSavedQuery(kept, props.query, props.presentation), { ifVersion: version });
    notices.success({ message: `Saved “${kept}”`, duration: 3 });
  } catch (error) {
    notices.error({ message: 'Not saved', description: describeFailure(error) });
  }
}

function begin(): void {
  name.value = saved.value ? `${saved.value.name} (copy)` : '';
  board.value = undefined;
  naming.value = true;
}
const roomy = computed(() =>
  boards.value.filter(({ tiles }) => tiles.length < MOST_TILES).map(({ id, name: label }) => ({ value: id, label })),
);
</script>

<template>
  <Dropdown :trigger="['click']" @open-change="wanted = true">
    <Button size="small">{{ saved ? saved.name : 'Saved' }}{{ altered ? ' *' : '' }} ▾</Button>
    <template #overlay>
      <Menu class="saved-menu">
        <MenuItem v-if="saved && altered" key="update" @click="update">Save changes to “{{ saved.name }}”</MenuItem>
        <MenuItem key="save" @click="begin">Save this query as…</MenuItem>
        <MenuItem v-if="queries.length === 0" key="none" disabled>{{
          view?.state === 'loading' ? 'Loading…' : (view?.error?.detail ?? 'No saved queries yet')
        }}</MenuItem>
        <MenuItem
          v-for="one in queries"
          :key="`q-${one.id}`"
          :title="one.query.where"
          @click="router.push(addressOf(one))"
        >
          {{ one.name }} <span class="muted">{{ one.query.from }}</span>
        </MenuItem>
      </Menu>
    </template>
  </Dropdown>
  <Modal
    v-model:open="naming"
    title="Save this query"
    ok-text="Save"
    :ok-button-props="{ disabled: name.trim() === '' }"
    :confirm-loading="busy"
    :width="420"
    @ok="save"
  >
    <form class="fields" @submit.prevent="save">
      <label>name <Input v-model:value="name" autofocus :maxlength="80" placeholder="Balloons over the ridge" /></label>
      <label v-if="roomy.length > 0"
        >on a board <ChoiceBox v-model:value="board" placeholder="none" :options="roomy"
      /></label>
      <p class="muted">
        It is saved as a document in <code>{{ QUERIES }}</code>, for everybody who may read it.
      </p>
    </form>
  </Modal>
</template>

<style scoped>
.fields {
  display: grid;
  gap: 10px;
}
.fields label {
  display: grid;
  gap: 2px;
  color: var(--ink-3);
}
.fields p {
  margin: 0;
}
.saved-menu {
  max-height: 60vh;
  overflow-y: auto;
}
</style>
