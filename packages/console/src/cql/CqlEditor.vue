<script setup lang="ts">
import { closeBrackets, closeBracketsKeymap } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { bracketMatching } from '@codemirror/language';
import { EditorState, Prec } from '@codemirror/state';
import { EditorView, keymap, placeholder } from '@codemirror/view';
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue';
import { highlighting, look } from '../components/editor-look';
import { conditions, type Vocabulary } from './language';

const text = defineModel<string>({ required: true });
const props = defineProps<{ label: string; hint: string; lines: 'one' | 'many'; vocabulary: () => Vocabulary }>();
const emit = defineEmits<{ run: [] }>();
const place = useTemplateRef<HTMLElement>('place');
let editor: EditorView | undefined;

/** Pasted line breaks become spaces. */
const oneLine = EditorState.transactionFilter.of((transaction) =>
  transaction.docChanged && transaction.newDoc.lines > 1
    ? [{ changes: { from: 0, to: transaction.startState.doc.length, insert: joined(transaction.newDoc.toString()) } }]
    : transaction,
);
const joined = (lines: string) => lines.replace(/\s*\n\s*/g, ' ');

onMounted(() => {
  const run = () => (emit('run'), true);
  editor = new EditorView({
    parent: place.value!,
    state: EditorState.create({
      doc: props.lines === 'one' ? joined(text.value) : text.value,
      extensions: [
        history(),
        bracketMatching(),
        closeBrackets(),
        highlighting,
        look,
        placeholder(props.hint),
        EditorView.contentAttributes.of({ 'aria-label': props.label, spellcheck: 'false' }),
        // The list of completions takes Enter first, where it is open.
        conditions(() => props.vocabulary()),
        keymap.of([
          ...closeBracketsKeymap,
          { key: 'Mod-Enter', run },
          ...(props.lines === 'one' ? [{ key: 'Enter', run }] : []),
          ...defaultKeymap,
          ...historyKeymap,
        ]),
        props.lines === 'one' ? oneLine : EditorView.lineWrapping,
        Prec.low(
          EditorView.updateListener.of((update) => {
            if (update.docChanged) text.value = update.state.doc.toString();
          }),
        ),
      ],
    }),
  });
});
watch(text, (next) => {
  if (!editor || editor.state.doc.toString() === next) return;
  editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: next } });
});
onBeforeUnmount(() => editor?.destroy());
defineExpose({ focus: () => editor?.focus() });
</script>

<template>
  <div ref="place" class="cql" :class="lines" />
</template>

<style scoped>
.cql {
  min-width: 0;
  border: 1px solid var(--line);
  border-radius: 5px;
  background: var(--paper);
}
.cql:focus-within {
  border-color: var(--accent);
}
.one {
  height: 28px;
}
.one :deep(.cm-scroller) {
  overflow-x: auto;
  scrollbar-width: none;
}
.one :deep(.cm-content) {
  padding: 3px 0;
}
.many {
  min-height: 84px;
}
</style>
