<script setup lang="ts">
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
import { json, jsonParseLinter } from '@codemirror/lang-json';
import { yaml } from '@codemirror/lang-yaml';
import { bracketMatching } from '@codemirror/language';
import { linter, lintGutter } from '@codemirror/lint';
import { Compartment, EditorState } from '@codemirror/state';
import { EditorView, keymap, lineNumbers } from '@codemirror/view';
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue';
import { highlighting, look } from './editor-look';
import { replaceText } from './replace-text';

const text = defineModel<string>({ required: true });
const props = defineProps<{ language: 'json' | 'yaml'; label: string; readonly?: boolean }>();
const emit = defineEmits<{ save: [] }>();
const place = useTemplateRef<HTMLElement>('place');
let editor: EditorView | undefined;
const writable = new Compartment();

onMounted(() => {
  editor = new EditorView({
    parent: place.value!,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        lineNumbers(),
        history(),
        bracketMatching(),
        ...(props.language === 'json' ? [json(), linter(jsonParseLinter())] : [yaml()]),
        lintGutter(),
        highlighting,
        look,
        EditorView.lineWrapping,
        writable.of(EditorState.readOnly.of(props.readonly)),
        EditorView.contentAttributes.of({ 'aria-label': props.label }),
        keymap.of([
          { key: 'Mod-s', run: () => (emit('save'), true) },
          ...defaultKeymap,
          ...historyKeymap,
          indentWithTab,
        ]),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) text.value = update.state.doc.toString();
        }),
      ],
    }),
  });
});
// What can be scrolled can be reached by the keyboard.
onMounted(() => (editor!.scrollDOM.tabIndex = 0));
watch(text, (next) => replaceText(editor, next));
watch(
  () => props.readonly,
  (readonly) => editor?.dispatch({ effects: writable.reconfigure(EditorState.readOnly.of(readonly)) }),
);
onBeforeUnmount(() => editor?.destroy());
</script>

<template>
  <div ref="place" class="editor" />
</template>

<style scoped>
.editor {
  height: 100%;
  border: 1px solid var(--line);
  border-radius: 5px;
  overflow: hidden;
}
</style>
