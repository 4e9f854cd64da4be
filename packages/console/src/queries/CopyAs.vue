<script setup lang="ts">
import { Button, Dropdown, Menu, MenuItem, MenuItemGroup } from 'ant-design-vue';
import { computed } from 'vue';
import { useNotices } from '../shared/injection';
import type { Copy } from './copies';

/** Copies something as code for a platform. */
const props = defineProps<{ copies: readonly Copy[]; size?: 'small' }>();
const notices = useNotices();
const groups = computed(() => [...new Set(props.copies.map(({ group }) => group))]);

async function copy({ name, text }: Copy): Promise<void> {
  await navigator.clipboard.writeText(text);
  notices.success({ message: `Copied: ${name}`, description: text.split('\n')[0], duration: 3 });
}
</script>

<template>
  <Dropdown :trigger="['click']">
    <Button :size="size">Copy as…</Button>
    <template #overlay>
      <Menu class="copies">
        <MenuItemGroup v-for="group in groups" :key="group" :title="group">
          <MenuItem
            v-for="entry in copies.filter((one) => one.group === group)"
            :key="entry.name"
            @click="copy(entry)"
            >{{ entry.name }}</MenuItem
          >
        </MenuItemGroup>
      </Menu>
    </template>
  </Dropdown>
</template>

<style scoped>
.copies {
  max-height: 75vh;
  overflow-y: auto;
}
</style>
