import type { JsonValue, Store } from '@uproar/client';
import { describeFailure } from '../shared/failure';
import { writeField, type FieldAddress } from './write-field';

/** An edit of a cell that was saved and can be undone. */
export interface SavedEdit extends FieldAddress {
  /** What the column is called. */
  readonly name: string;
  readonly before: JsonValue | undefined;
  readonly after: JsonValue | undefined;
}

/** Notifications about cell edits. */
export interface CellEditMessages {
  saved(edit: SavedEdit, undo: () => void): void;
  undone(edit: SavedEdit): void;
  notUndone(edit: SavedEdit, reason: string): void;
}

/** The number of saved edits that can be undone. */
const MAX_UNDOS = 50;
const saved: SavedEdit[] = [];

/** Records a saved edit, and shows a notification. */
export function noteSaved(store: Store, edit: SavedEdit, messages: CellEditMessages): void {
  saved.push(edit);
  if (saved.length > MAX_UNDOS) saved.shift();
  messages.saved(edit, () => void undo(store, edit, messages));
}

/** Undoes the edit of a collection that was saved last. */
export function undoLast(store: Store, collection: string, messages: CellEditMessages): void {
  const last = saved.findLast((edit) => edit.collection === collection);
  if (last) void undo(store, last, messages);
}

async function undo(store: Store, edit: SavedEdit, messages: CellEditMessages): Promise<void> {
  const at = saved.indexOf(edit);
  if (at !== -1) saved.splice(at, 1);
  try {
    const { kind } = await writeField(store, edit, edit.after, edit.before);
    if (kind === 'written') messages.undone(edit);
    else messages.notUndone(edit, kind === 'gone' ? `${edit.id} was deleted meanwhile.` : 'It was changed meanwhile.');
  } catch (error) {
    messages.notUndone(edit, describeFailure(error));
  }
}
