import { diff } from '@codemirror/merge';
import { Transaction } from '@codemirror/state';
import type { EditorView } from '@codemirror/view';

/**
 * Puts a text from outside into an editor. Only the differences are replaced, so that the cursor and the selection stay where they
 * are. It cannot be undone in the editor.
 */
export function replaceText(editor: EditorView | undefined, next: string): void {
  const now = editor?.state.doc.toString();
  if (!editor || now === undefined || now === next) return;
  const changes = diff(now, next).map(({ fromA, toA, fromB, toB }) => ({
    from: fromA,
    to: toA,
    insert: next.slice(fromB, toB),
  }));
  editor.dispatch({ changes, annotations: Transaction.addToHistory.of(false) });
}
