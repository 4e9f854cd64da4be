<script setup lang="ts">
import { nextTick, onBeforeUnmount, ref, shallowRef, useTemplateRef, watch } from 'vue';
import type CqlEditor from './CqlEditor.vue';
import type { Vocabulary } from './language';

/**
 * A condition on one line. It is a plain input until the editor is loaded, so that the page does not wait for that: when the
 * page has what it shows, or when somebody begins to type.
 */
const text = defineModel<string>({ required: true });
const props = defineProps<{
  label: string;
  hint: string;
  vocabulary: () => Vocabulary;
  /** Whether the page has what it shows. */
  ready: boolean;
}>();
const emit = defineEmits<{ run: [] }>();
const input = useTemplateRef<HTMLInputElement>('input');
const editor = useTemplateRef<{ focus(selection?: readonly [number, number]): void }>('editor');
const Editor = shallowRef<typeof CqlEditor>();

let loading = false;
let composing = false;
let ended = false;
const waiting = ref<() => void>();

async function load(): Promise<void> {
  if (loading) return;
  loading = true;
  const { default: loaded } = await import('./CqlEditor.vue');
  if (ended) return;
  // What an input method is composing would be lost.
  if (composing) await new Promise<void>((resolve) => (waiting.value = resolve));
  const element = input.value;
  const focused = element !== null && document.activeElement === element;
  const selection = [element?.selectionStart ?? 0, element?.selectionEnd ?? 0] as const;
  Editor.value = loaded;
  await nextTick();
  if (focused) editor.value?.focus(selection);
}
function endComposition(): void {
  composing = false;
  waiting.value?.();
}

let idle: ReturnType<typeof setTimeout> | undefined;
/** After the first rows were drawn. */
const REST_MS = 150;
watch(
  () => props.ready,
  (ready) => {
    if (ready) idle ??= setTimeout(() => void load(), REST_MS);
  },
  { immediate: true },
);
onBeforeUnmount(() => {
  ended = true;
  clearTimeout(idle);
});
</script>

<template>
  <component
    :is="Editor"
    v-if="Editor"
    ref="editor"
    v-model="text"
    :label="label"
    lines="one"
    :hint="hint"
    :vocabulary="vocabulary"
    @run="emit('run')"
  />
  <input
    v-else
    ref="input"
    v-model="text"
    class="mono plain"
    :aria-label="label"
    :placeholder="hint"
    spellcheck="false"
    autocomplete="off"
    @focus="load"
    @pointerenter="load"
    @compositionstart="composing = true"
    @compositionend="endComposition"
    @keydown.enter.prevent="emit('run')"
  />
</template>

<style scoped>
.plain {
  width: 100%;
  height: 28px;
  padding: 0 7px;
  border: 1px solid var(--line);
  border-radius: 5px;
  background: var(--paper);
  color: var(--ink);
}
.plain::placeholder {
  color: var(--ink-3);
  font-style: italic;
}
</style>
