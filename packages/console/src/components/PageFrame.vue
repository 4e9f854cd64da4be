<script setup lang="ts">
/** A page: its title, facts and actions in one line, and its content below. */
defineProps<{ title: string }>();
</script>

<template>
  <main>
    <header>
      <h1>{{ title }}</h1>
      <slot name="facts" />
      <span class="tools"><slot name="tools" /></span>
    </header>
    <slot />
  </main>
</template>

<style scoped>
main {
  position: relative;
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
}
header {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 10px;
  align-items: center;
  padding: 10px 16px;
  border-bottom: 1px solid var(--line);
}
h1 {
  margin: 0;
  overflow: hidden;
  font-size: 16px;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  margin-left: auto;
}
@media (max-width: 720px) {
  main {
    overflow-y: auto;
  }
  .tools {
    margin-left: 0;
  }
}
</style>
