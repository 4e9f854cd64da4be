<script setup lang="ts">
import { groupDigits } from '@uproar/core';
import { useWatch } from '@uproar/vue';
import { computed } from 'vue';
import { useStore } from '../shared/injection';

/** The number of documents of a collection that the caller sees, if the store does not report it. */
const props = defineProps<{ collection: string }>();
const store = useStore();
const view = useWatch(() => store.collection(props.collection).summary('count()').watch());
const count = computed(() => view.value?.documents[0]?.data['count()']);
</script>

<template>
  <span v-if="typeof count === 'number'" :title="`${count} documents that you may see`">{{ groupDigits(count) }}</span>
</template>
