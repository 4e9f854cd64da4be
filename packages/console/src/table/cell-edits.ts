import { isProblem, type Document, type JsonValue, type Store } from '@uproar/client';
import { findDataFault, JsonTextError, parseJson, setMember, type JsonObject } from '@uproar/core';
import { computed, shallowReactive, watch, type ComputedRef } from 'vue';
import { describeFailure } from '../shared/failure';
import { dropDraft, keepDraft, unsavedEdits, type Draft } from '../unsaved/drafts';
import { valueAt } from './fields';
import type { Column } from './layout';
import { noteSaved, undoLast, type CellEditMessages } from './saved-edits';
import { writeField, type FieldAddress } from './write-field';

/** An edit of one field of one document, from the moment its cell is opened until it is saved or discarded. */
export interface CellEdit extends FieldAddress {
  /** The key and the title of the column. */
  readonly column: string;
  readonly name: string;
  /** The document as it was when the edit began. */
  readonly document: Document;
  /** The value of the cell when the edit began, and its text in the editor. */
  was: JsonValue | undefined;
  readonly initial: string;
  /** The typed text. */
  text: string;
  /** `open`: in the editor. `saving`: sent. `unsaved`: closed, because it could not be saved. */
  state: 'open' | 'saving' | 'unsaved';
  /** Why it is not saved. */
  fault: string;
  /** The value that someone else has written to the field meanwhile. */
  theirs?: { value: JsonValue | undefined } | undefined;
  /** Whether the document has been deleted meanwhile. */
  gone?: boolean | undefined;
}

/** The edits of this browser tab that are not saved: of every collection, whichever page is shown. */
const edits = shallowReactive<CellEdit[]>(readKept());

/** The cell edits. */
export interface CellEdits {
  /** The one that is open in the editor, if any. */
  readonly open: ComputedRef<CellEdit | undefined>;
  /** The closed edits of the collection that are not saved yet. */
  readonly unsaved: ComputedRef<CellEdit[]>;
  /** Opens the editor for a cell and closes an open one first. An unsaved edit of the same cell continues. */
  begin(document: Document, column: Column): void;
  /** Takes over the text of the editor. */
  type(text: string): void;
  /** Opens the editor again for an edit that could not be saved. */
  resume(edit: CellEdit): void;
  /**
   * Saves the open edit and closes the editor. What cannot be read as a value stays open with the reason, unless `leaving`:
   * then it goes to the unsaved ones.
   *
   * @returns whether the editor was closed
   */
  commit(leaving?: boolean): boolean;
  /** Saves an edit over a value that someone else has written meanwhile. */
  overwrite(edit: CellEdit): void;
  /** Creates the document again as it was when the edit began, with the edited field. */
  restore(edit: CellEdit): void;
  discard(edit: CellEdit): void;
  /** Undoes the edit of this collection that was saved last. */
  undo(): void;
}

/** The cell edits, for a page that shows a collection. */
export function useCellEdits(
  store: Store,
  collection: Readonly<{ value: string }>,
  messages: CellEditMessages,
): CellEdits {
  const mine = computed(() => edits.filter((edit) => edit.collection === collection.value));
  const open = computed(() => edits.find(({ state }) => state === 'open'));

  const begin = (document: Document, column: Column): void => {
    const known = mine.value.find(({ id, column: key }) => id === document.id && key === column.key);
    if (known?.state === 'open') return;
    commit(true);
    if (known) return resume(known);
    const was = valueAt(document.data, column.path);
    const initial = was === undefined ? '' : typeof was === 'string' ? was : JSON.stringify(was);
    add({
      ...{ collection: collection.value, id: document.id, path: column.path, column: column.key, name: column.name },
      ...{ document, was, initial, text: initial, state: 'open', fault: '' },
    });
  };

  const resume = (edit: CellEdit): void => {
    if (edit.state !== 'unsaved') return;
    commit(true);
    Object.assign(edit, { state: 'open', theirs: undefined } satisfies Partial<CellEdit>);
  };

  const type = (text: string): void => {
    if (open.value) Object.assign(open.value, { text, fault: '' });
  };

  const commit = (leaving = false): boolean => {
    const edit = open.value;
    if (!edit) return true;
    if (edit.text === edit.initial) {
      discard(edit);
      return true;
    }
    const read = readCell(edit);
    if ('fault' in read) {
      edit.fault = read.fault;
      if (leaving) edit.state = 'unsaved';
      return leaving;
    }
    void save(store, edit, read.value, messages);
    return true;
  };

  const overwrite = (edit: CellEdit): void => {
    const read = readCell(edit);
    if ('fault' in read || !edit.theirs) return;
    edit.was = edit.theirs.value;
    void save(store, edit, read.value, messages);
  };

  const restore = (edit: CellEdit): void => {
    const read = readCell(edit);
    if (!('fault' in read)) void createAgain(store, edit, read.value, messages);
  };

  return {
    open,
    unsaved: computed(() => mine.value.filter(({ state }) => state !== 'open')),
    ...{ begin, type, resume, commit, overwrite, restore, discard },
    undo: () => undoLast(store, collection.value, messages),
  };
}

/** Whether the cell holds text, which is edited as it reads; everything else is edited as JSON. */
export function isText({ was }: Pick<CellEdit, 'was'>): boolean {
  return typeof was === 'string';
}

function readCell(edit: CellEdit): { value: JsonValue | undefined } | { fault: string } {
  const { text, was } = edit;
  if (isText(edit)) return { value: text };
  if (text.trim() === '') return { value: undefined };
  try {
    const value = parseJson(text);
    const found = findDataFault({ value });
    return found ? { fault: found.detail } : { value };
  } catch (error) {
    if (!(error instanceof JsonTextError)) throw error;
    // A word typed into an empty cell is text.
    if (was === undefined && /^[\p{L}][^"{}[\]]*$/u.test(text)) return { value: text };
    return { fault: 'This is neither a number, true, false, null, "text" nor other JSON.' };
  }
}

/** Sends one field, on the condition that it still has the value from when the edit began. */
async function save(
  store: Store,
  edit: CellEdit,
  value: JsonValue | undefined,
  messages: CellEditMessages,
): Promise<void> {
  Object.assign(edit, { state: 'saving', fault: '', theirs: undefined, gone: undefined } satisfies Partial<CellEdit>);
  try {
    const outcome = await writeField(store, edit, edit.was, value);
    if (outcome.kind === 'written') return settle(store, edit, value, messages);
    const gone = outcome.kind === 'gone';
    edit.fault = gone ? `${edit.id} was deleted meanwhile.` : 'Another user changed this field.';
    if (gone) edit.gone = true;
    else edit.theirs = { value: outcome.value };
  } catch (error) {
    edit.fault = describeFailure(error);
  }
  edit.state = 'unsaved';
}

async function createAgain(
  store: Store,
  edit: CellEdit,
  value: JsonValue | undefined,
  messages: CellEditMessages,
): Promise<void> {
  const data = structuredClone(edit.document.data);
  let place: JsonObject = data;
  for (const name of edit.path.slice(0, -1)) place = place[name] as JsonObject;
  if (value === undefined) delete place[edit.path.at(-1)!];
  else setMember(place, edit.path.at(-1)!, value);
  edit.state = 'saving';
  try {
    await store.collection(edit.collection).put(edit.id, data, { ifVersion: 0 });
    settle(store, edit, value, messages);
  } catch (error) {
    edit.state = 'unsaved';
    // The document was created again by someone else: the edit can be saved to it.
    const isBack = isProblem(error, 'version-mismatch');
    edit.fault = isBack ? `${edit.id} exists again. Open the edit and save it.` : describeFailure(error);
    if (isBack) edit.gone = undefined;
  }
}

function settle(store: Store, edit: CellEdit, after: JsonValue | undefined, messages: CellEditMessages): void {
  discard(edit);
  const { collection, id, path, name, was } = edit;
  noteSaved(store, { collection, id, path, name, before: was, after }, messages);
}

const keyOf = ({ collection, id, column }: CellEdit) => `cell:${collection}/${id} ${column}`;

function add(edit: CellEdit): void {
  const state = shallowReactive(edit);
  keepAsDraft(state);
  edits.push(state);
}

function discard(edit: CellEdit): void {
  const at = edits.indexOf(edit);
  if (at !== -1) edits.splice(at, 1);
  dropDraft(keyOf(edit));
}

/** Keeps an edit over reloads while its text differs from the value in the cell. */
function keepAsDraft(edit: CellEdit): void {
  watch(
    () => ({ ...edit }),
    (value) => {
      const { collection, id, name } = edit;
      const key = keyOf(edit);
      if (!edits.includes(edit)) return;
      if (edit.text === edit.initial) return dropDraft(key);
      const label = `${name} of ${collection}/${id}`;
      keepDraft({ key, value, edit: { label, path: `/data/${collection}`, open: value.state === 'open' } });
    },
    { flush: 'sync' },
  );
}

/** The edits that a reload of the page interrupted. */
function readKept(): CellEdit[] {
  const kept = unsavedEdits.value.filter(({ key }) => key.startsWith('cell:')) as Draft<CellEdit>[];
  return kept.map(({ value }) => {
    const fault = value.fault || 'The page was left before this was saved.';
    const edit = shallowReactive<CellEdit>({ ...value, fault, state: 'unsaved' });
    keepAsDraft(edit);
    return edit;
  });
}
