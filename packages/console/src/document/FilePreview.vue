<script setup lang="ts">
import type { Document } from '@uproar/client';
import { formatBytes } from '@uproar/core';
import { computed, ref, watch } from 'vue';
import { describeFailure } from '../shared/failure';
import { useStore } from '../shared/injection';

/** The content of a file: shown where it is a picture, and to be saved. */
const props = defineProps<{ document: Document }>();
const store = useStore();
const LINK_SECONDS = 3600;
let links = 0;
const link = ref('');
const failure = ref('');

const hash = computed(() => props.document.data.sha256);
const isPicture = computed(() => /^image\/(png|jpeg|gif|webp|avif|bmp)$/.test(String(props.document.data.type)));
const facts = computed(() => {
  const { type, size } = props.document.data;
  return [type, typeof size === 'number' && formatBytes(size)].filter((fact) => typeof fact === 'string').join(', ');
});

watch(
  hash,
  async (sha256) => {
    link.value = '';
    if (typeof sha256 !== 'string') return;
    // Another expiry makes another address, or else the browser would show the picture that it has.
    const seconds = LINK_SECONDS + links++;
    try {
      const made = await store.files.link(props.document.id, seconds);
      if (hash.value !== sha256) return;
      [link.value, failure.value] = [made, ''];
    } catch (error) {
      failure.value = describeFailure(error);
    }
  },
  { immediate: true },
);
</script>

<template>
  <figure v-if="typeof hash === 'string'">
    <div v-if="isPicture" class="frame"><img v-if="link" :src="link" :alt="`The content of ${document.id}`" /></div>
    <figcaption>
      <span class="muted">{{ facts }}</span>
      <span v-if="failure" class="failure">{{ failure }}</span>
      <a v-else-if="link" :href="`${link}&download`" :download="String(document.data.name ?? document.id)">Download</a>
    </figcaption>
  </figure>
  <p v-else class="muted none">No content has been uploaded.</p>
</template>

<style scoped>
figure {
  display: flex;
  flex-direction: column;
  gap: 6px;
  margin: 0;
}
.frame {
  display: grid;
  place-items: center;
  height: 220px;
  border: 1px solid var(--line);
  border-radius: 6px;
  /* Makes transparent areas differ from white ones. */
  background: repeating-conic-gradient(var(--paper-3) 0% 25%, var(--paper) 0% 50%) 0 0 / 16px 16px;
}
img {
  max-width: 100%;
  max-height: 218px;
}
figcaption {
  display: flex;
  gap: 14px;
}
a {
  color: var(--accent);
}
.failure {
  color: var(--bad);
}
.none {
  margin: 0;
}
</style>
