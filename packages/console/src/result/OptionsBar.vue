<template>
  <div class="options"><slot /></div>
</template>

<style scoped>
.options {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
  align-items: center;
  padding: 6px 16px;
  border-bottom: 1px solid var(--line);
  color: var(--ink-3);
}
.options :deep(label) {
  white-space: nowrap;
}
.options :deep(select) {
  max-width: 150px;
}
.options :deep(.at-end) {
  margin-left: auto;
}
@media (max-width: 720px) {
  .options :deep(.at-end) {
    margin-left: 0;
  }
}
</style>
