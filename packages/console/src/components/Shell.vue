<script setup lang="ts">
import type { Store } from '@uproar/client';
import { useWatch } from '@uproar/vue';
import { Button, notification, Tooltip } from 'ant-design-vue';
import { computed, provide } from 'vue';
import { useRoute } from 'vue-router';
import { NoticesKey, StoreKey } from '../injection';
import { signOut } from '../session';
import { isDark, toggleTheme } from '../theme';
import CollectionList from './CollectionList.vue';
import ConnectionBadge from './ConnectionBadge.vue';
import OpenBanner from './OpenBanner.vue';
import Wordmark from './Wordmark.vue';

const props = defineProps<{ store: Store }>();
const [notices, NoticesHolder] = notification.useNotification({ placement: 'bottomRight' });
provide(StoreKey, props.store);
provide(NoticesKey, notices);

const collections = useWatch(() => props.store.watchCollections());
const route = useRoute();
const open = computed(() => String(route.params.collection ?? ''));
</script>

<template>
  <div class="shell">
    <NoticesHolder />
    <nav aria-label="Pages and collections" :class="{ elsewhere: route.name !== 'data' }">
      <header>
        <Wordmark />
        <div class="pages">
          <RouterLink to="/data" :class="{ open: route.name === 'data' }">Data</RouterLink>
          <RouterLink to="/access" :class="{ open: route.name === 'access' }">Access</RouterLink>
        </div>
      </header>
      <OpenBanner :store="store" />
      <CollectionList :view="collections" :open="open" />
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
          <Button type="text" size="small" @click="signOut">Sign out</Button>
        </div>
      </footer>
    </nav>
    <RouterView :collections="collections" />
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
  padding: 14px 16px 12px;
}
.pages {
  display: flex;
  gap: 4px;
  margin: 12px -8px 0;
}
.pages a {
  flex: 1;
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
    max-height: 40vh;
  }
  .elsewhere :deep(.list) {
    display: none;
  }
}
</style>
