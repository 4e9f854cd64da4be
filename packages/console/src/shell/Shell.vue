<script setup lang="ts">
import type { Store } from '@uproar/client';
import { useWatch } from '@uproar/vue';
import { Button, Modal, notification, Tooltip } from 'ant-design-vue';
import { computed, defineAsyncComponent, onBeforeUnmount, onMounted, provide, ref } from 'vue';
import { useRoute } from 'vue-router';
import Wordmark from '../components/Wordmark.vue';
import { NoticesKey, StoreKey, type Notices } from '../shared/injection';
import { signOut } from '../sign-in/session';
import { isDark, toggleTheme } from '../shared/theme';
import { unsavedEdits } from '../unsaved/drafts';
import CollectionList from './CollectionList.vue';
import ConnectionBadge from './ConnectionBadge.vue';
import { stepsAreOpen } from '../first-steps/remember-steps';
import OpenBanner from './OpenBanner.vue';
import { PAGES } from './pages';
import UnsavedList from './UnsavedList.vue';

const CommandPalette = defineAsyncComponent(() => import('./CommandPalette.vue'));
const props = defineProps<{ store: Store }>();
const [api, NoticesHolder] = notification.useNotification();
// Beside the navigation, and beside an open drawer; style.css says where exactly.
const placement = 'bottomLeft' as const;
const notices: Notices = {
  success: (notice) => api.success({ placement, ...notice }),
  info: (notice) => api.info({ placement, ...notice }),
  // What went wrong stands until it is put away.
  error: (notice) => api.error({ placement, duration: 0, ...notice }),
  destroy: (key) => api.destroy(key),
};
provide(StoreKey, props.store);
provide(NoticesKey, notices);

const collections = useWatch(() => props.store.watchCollections());
const route = useRoute();
const open = computed(() => String(route.params.collection ?? ''));
const palette = ref(false);
/** Whether it was ever wanted; before, it is not loaded. */
const paletteWanted = ref(false);
const hint = /Mac|iPhone|iPad/.test(navigator.platform) ? '⌘K' : 'Ctrl K';

function showPalette(): void {
  paletteWanted.value = true;
  palette.value = true;
}

/** Signs out; where that would discard edits, only after a question. */
const [modal, ModalHolder] = Modal.useModal();
function leave(): void {
  const count = unsavedEdits.value.length;
  if (count === 0) return signOut();
  modal.confirm({
    title: count === 1 ? 'Sign out and discard an edit?' : `Sign out and discard ${count} edits?`,
    content: unsavedEdits.value
      .slice(0, 5)
      .map(({ edit }) => edit!.label)
      .join(', '),
    okText: 'Sign out',
    okButtonProps: { danger: true },
    onOk: signOut,
  });
}

function onKey(event: KeyboardEvent): void {
  if (event.key.toLowerCase() !== 'k' || !(event.ctrlKey || event.metaKey) || event.shiftKey || event.altKey) return;
  event.preventDefault();
  showPalette();
}
onMounted(() => addEventListener('keydown', onKey));
onBeforeUnmount(() => removeEventListener('keydown', onKey));
</script>

<template>
  <div class="shell">
    <NoticesHolder />
    <ModalHolder />
    <nav aria-label="Pages and collections" :class="{ elsewhere: route.name !== 'data' }">
      <header>
        <Wordmark />
        <button type="button" class="find" @click="showPalette">
          Find <kbd>{{ hint }}</kbd>
        </button>
      </header>
      <div class="pages">
        <RouterLink
          v-for="{ name, label, about } in PAGES"
          :key="name"
          :to="{ name }"
          :title="about"
          :class="{ open: route.name === name }"
          :aria-current="route.name === name ? 'page' : undefined"
          >{{ label }}</RouterLink
        >
      </div>
      <RouterLink v-if="stepsAreOpen" :to="{ name: 'start' }" class="start" :class="{ open: route.name === 'start' }"
        >First steps</RouterLink
      >
      <OpenBanner :store="store" />
      <CollectionList :view="collections" :open="open" />
      <UnsavedList />
      <footer>
        <ConnectionBadge :store="store" />
        <div class="tools">
          <Tooltip :title="isDark ? 'Light colours' : 'Dark colours'">
            <Button
              type="text"
              size="small"
              :aria-label="isDark ? 'Light colours' : 'Dark colours'"
              @click="toggleTheme"
            >
              {{ isDark ? '☀' : '☾' }}
            </Button>
          </Tooltip>
          <Button type="text" size="small" @click="leave">Sign out</Button>
        </div>
      </footer>
    </nav>
    <RouterView :collections="collections" />
    <CommandPalette v-if="paletteWanted" v-model:open="palette" :collections="collections" @sign-out="leave" />
  </div>
</template>

<style scoped>
.shell {
  display: grid;
  grid-template-columns: 228px minmax(0, 1fr);
  height: 100%;
}
nav {
  display: flex;
  flex-direction: column;
  min-height: 0;
  background: var(--paper-2);
  border-right: 1px solid var(--line);
}
header {
  display: flex;
  justify-content: space-between;
  align-items: center;
  padding: 14px 12px 10px 16px;
}
.find {
  padding: 2px 6px;
  border: 1px solid var(--line);
  border-radius: 5px;
  background: var(--paper);
  color: var(--ink-2);
  font: inherit;
  font-size: 12px;
  cursor: pointer;
}
kbd {
  color: var(--ink-3);
  font-family: inherit;
  font-size: 11px;
}
.pages {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 2px;
  padding: 0 8px 10px;
}
.pages a {
  padding: 3px 8px;
  border-radius: 5px;
  color: var(--ink-2);
  text-decoration: none;
}
.pages a:hover {
  background: var(--paper-3);
}
.pages a.open {
  background: var(--accent-soft);
  color: var(--ink);
  font-weight: 600;
}
.start {
  margin: 0 8px 8px;
  padding: 3px 8px;
  border: 1px solid var(--accent);
  border-radius: 5px;
  color: var(--accent);
  text-decoration: none;
}
.start.open {
  background: var(--accent-soft);
}
footer {
  padding: 12px 16px;
  border-top: 1px solid var(--line);
}
.tools {
  display: flex;
  justify-content: space-between;
  margin: 8px -7px 0;
}
@media (max-width: 720px) {
  .shell {
    grid-template-columns: minmax(0, 1fr);
    grid-template-rows: auto minmax(0, 1fr);
  }
  nav {
    border-right: 0;
    border-bottom: 1px solid var(--line);
    max-height: 44vh;
  }
  header {
    padding: 8px 12px 6px;
  }
  .pages {
    display: flex;
    padding-bottom: 6px;
    overflow-x: auto;
  }
  footer {
    display: flex;
    justify-content: space-between;
    align-items: center;
    padding: 4px 12px;
  }
  .tools {
    margin: 0;
  }
  nav :deep(.list) {
    display: flex;
    flex: none;
    gap: 4px;
    padding-bottom: 6px;
    overflow-x: auto;
  }
  nav :deep(.list h2) {
    display: none;
  }
  nav :deep(.list .item) {
    flex: none;
  }
  .elsewhere :deep(.list) {
    display: none;
  }
}
</style>
