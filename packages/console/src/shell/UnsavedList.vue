<script setup lang="ts">
import { computed } from 'vue';
import { isLostOnReload, unsavedEdits } from '../unsaved/drafts';

const listed = computed(() => unsavedEdits.value.filter(({ edit }) => !edit!.open));
</script>

<template>
  <div v-if="listed.length > 0" class="unsaved" role="region" aria-label="Edits that are not saved">
    <h2>Not saved</h2>
    <RouterLink v-for="{ key, edit } in listed" :key="key" :to="edit!.path" :title="edit!.label">
      {{ edit!.label }}<small v-if="isLostOnReload(key)"> lost on reload</small>
    </RouterLink>
  </div>
</template>

<style scoped>
.unsaved {
  flex: none;
  max-height: 30%;
  padding: 6px 8px;
  overflow: auto;
  border-top: 1px solid var(--line);
}
h2 {
  margin: 0 8px 2px;
  color: var(--warn);
  font-size: 11.5px;
  font-weight: 600;
}
a {
  display: block;
  padding: 2px 8px;
  overflow: hidden;
  border-radius: 4px;
  color: var(--ink);
  text-overflow: ellipsis;
  white-space: nowrap;
}
a:hover {
  background: var(--paper-3);
}
small {
  color: var(--bad);
}
@media (max-width: 720px) {
  .unsaved {
    max-height: 72px;
  }
}
</style>
