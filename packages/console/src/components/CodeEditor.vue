<script setup lang="ts">
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
import { json, jsonParseLinter } from '@codemirror/lang-json';
import { yaml } from '@codemirror/lang-yaml';
import { bracketMatching, HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { linter, lintGutter } from '@codemirror/lint';
import { EditorState } from '@codemirror/state';
import { EditorView, keymap, lineNumbers } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue';

const text = defineModel<string>({ required: true });
const props = defineProps<{ language: 'json' | 'yaml'; label: string }>();
const emit = defineEmits<{ save: [] }>();
const place = useTemplateRef<HTMLElement>('place');
let editor: EditorView | undefined;

const colours = HighlightStyle.define([
  { tag: tags.propertyName, color: 'var(--ink)', fontWeight: '600' },
  { tag: tags.string, color: 'var(--string)' },
  { tag: tags.number, color: 'var(--number)' },
  { tag: tags.bool, color: 'var(--boolean)' },
  { tag: tags.null, color: 'var(--ink-3)' },
  { tag: tags.comment, color: 'var(--ink-3)' },
]);
const look = EditorView.theme({
  '&': { height: '100%', backgroundColor: 'var(--paper)', color: 'var(--ink)' },
  '.cm-scroller': { fontFamily: 'var(--mono)', fontSize: '12.5px', lineHeight: '1.55' },
  '.cm-gutters': { backgroundColor: 'var(--paper-2)', color: 'var(--ink-3)', border: 'none' },
  '&.cm-focused': { outline: 'none' },
  '.cm-content': { caretColor: 'var(--ink)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'var(--accent-soft) !important' },
  '.cm-tooltip': { backgroundColor: 'var(--paper)', color: 'var(--ink)', border: '1px solid var(--line)' },
});

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
        syntaxHighlighting(colours),
        look,
        EditorView.lineWrapping,
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
watch(text, (next) => {
  if (!editor || editor.state.doc.toString() === next) return;
  editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: next } });
});
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
