<script setup lang="ts">
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { json } from '@codemirror/lang-json';
import { yaml } from '@codemirror/lang-yaml';
import { MergeView } from '@codemirror/merge';
import { EditorState } from '@codemirror/state';
import { EditorView, keymap, lineNumbers } from '@codemirror/view';
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue';
import { highlighting, look } from './editor-look';
import { replaceText } from './replace-text';

/** Two texts side by side: one to read, and one to edit. */
const text = defineModel<string>({ required: true });
const props = defineProps<{ other: string; language: 'json' | 'yaml'; label: string; otherLabel: string }>();
const place = useTemplateRef<HTMLElement>('place');
let view: MergeView | undefined;

onMounted(() => {
  const shared = [
    lineNumbers(),
    props.language === 'json' ? json() : yaml(),
    highlighting,
    look,
    EditorView.lineWrapping,
  ];
  view = new MergeView({
    parent: place.value!,
    a: {
      doc: props.other,
      extensions: [
        ...shared,
        EditorState.readOnly.of(true),
        EditorView.contentAttributes.of({ 'aria-label': props.otherLabel }),
      ],
    },
    b: {
      doc: text.value,
      extensions: [
        ...shared,
        history(),
        EditorView.contentAttributes.of({ 'aria-label': props.label }),
        keymap.of([...defaultKeymap, ...historyKeymap]),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) text.value = update.state.doc.toString();
        }),
      ],
    },
  });
});
watch(text, (next) => replaceText(view?.b, next));
watch(
  () => props.other,
  (next) => replaceText(view?.a, next),
);
onBeforeUnmount(() => view?.destroy());
</script>

<template>
  <div class="compare">
    <div class="names">
      <b>{{ otherLabel }}</b>
      <b>{{ label }}</b>
    </div>
    <!-- What can be scrolled can be reached by the keyboard. -->
    <div ref="place" class="texts" tabindex="0" />
  </div>
</template>

<style scoped>
.compare {
  display: flex;
  flex-direction: column;
  min-height: 0;
  border: 1px solid var(--line);
  border-radius: 5px;
}
.names {
  display: grid;
  grid-template-columns: 1fr 1fr;
  border-bottom: 1px solid var(--line);
  background: var(--paper-2);
}
.names b {
  padding: 4px 10px;
}
.texts {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
.texts :deep(.cm-mergeViewEditor + .cm-mergeViewEditor) {
  border-left: 1px solid var(--line);
}
</style>
