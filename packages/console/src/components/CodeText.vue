<script setup lang="ts">
defineProps<{ text: string }>();
</script>

<template>
  <template v-for="(piece, place) in text.split('`')" :key="place">
    <code v-if="place % 2 === 1" class="mono">{{ piece }}</code>
    <template v-else>{{ piece }}</template>
  </template>
</template>
