import { applyChange, type Document, type JsonObject, type JsonPatch } from '@uproar/core';
import type { Problem } from '@uproar/protocol';

/** Related documents of which only the names are known: each a document, null, or a list of documents. */
export interface AnyRelated {
  readonly [name: string]: TypedDocument | null | TypedDocument[];
}

/** A document whose data is of a known type. */
export type TypedDocument<Data = JsonObject, Related = AnyRelated> = Omit<Document, 'data'> & {
  data: Data;
  /** What the query includes, by name: a document, null, or a list of documents. */
  related?: Related;
};

const NONE: ReadonlySet<string> = new Set();

/** Where a document stood in the view before, and where it stands now; undefined where it did not or does not. */
export interface Move {
  id: string;
  from: number | undefined;
  to: number | undefined;
}

/** What a watch shows at one moment. Views are immutable; each change creates a new one. */
export interface View<Data = JsonObject, Related = AnyRelated> {
  /**
   * `loading`: nothing is known yet. `live`: the view is up to date. `stale`: it was, but there is no connection.
   * `failed`: the watch has ended; `error` is the reason.
   */
  readonly state: 'loading' | 'live' | 'stale' | 'failed';
  /** The documents in order. One that did not change is the same object as in the view before. */
  readonly documents: readonly TypedDocument<Data, Related>[];
  readonly byId: ReadonlyMap<string, TypedDocument<Data, Related>>;
  /** The changed documents since the previous view. Empty if only the state changed. */
  readonly changes: readonly Move[];
  /** True if the limit cuts the result: more documents match the query. */
  readonly more: boolean;
  /** The state of the store that the view shows; 0 while nothing is known. */
  readonly seq: number;
  /** The ids of documents that show writes of this client which the store has not acknowledged yet. */
  readonly pending: ReadonlySet<string>;
  readonly error?: Problem;
}

/** A view. Its map by id is created on demand, because it costs more than everything else. */
export class DocumentsView implements View {
  readonly state: View['state'] = 'loading';
  readonly documents: readonly Document[] = [];
  readonly changes: readonly Move[] = [];
  readonly more: boolean = false;
  readonly seq: number = 0;
  readonly pending: ReadonlySet<string> = NONE;
  readonly error?: Problem;
  #byId: ReadonlyMap<string, Document> | undefined;

  get byId(): ReadonlyMap<string, Document> {
    this.#byId ??= new Map(this.documents.map((document) => [document.id, document]));
    return this.#byId;
  }

  /** Another view, with some of it as given. */
  with(fields: Partial<Omit<View, 'byId'>>): DocumentsView {
    const { state, documents, changes, more, seq, pending, error } = this;
    const view = Object.assign(new DocumentsView(), { state, documents, changes, more, seq, pending }, fields);
    if (error && view.state === 'failed' && !fields.error) Object.assign(view, { error });
    if (view.documents === documents) view.#byId = this.#byId;
    return view;
  }
}

/** The first view of every watch. */
export const LOADING = new DocumentsView();

/** A view of exactly these documents. Those equal in version to the ones shown before keep their identity. */
export function replaceView(
  previous: DocumentsView,
  documents: readonly Document[],
  seq: number,
  more: boolean,
): DocumentsView {
  const kept = documents.map((document) => {
    const before = previous.byId.get(document.id);
    return before?.version !== undefined && before.version === document.version && !('related' in document)
      ? before
      : document;
  });
  const next = LOADING.with({ state: 'live', documents: kept, more, seq });
  return next.with({ changes: movesBetween(previous, next) });
}

/** Compares two documents by the order of a watch. */
export type Compare = (a: Document, b: Document) => number;

/**
 * The view after a patch.
 *
 * @param state the documents by id, as `previous` shows them; the patch is applied to it
 * @throws {PatchError} when the patch does not fit, which means that the view is not sound
 */
export function patchView(
  previous: DocumentsView,
  state: Map<string, Document>,
  patch: JsonPatch,
  seq: number,
  compare: Compare,
): DocumentsView {
  const touched = applyChange(state, patch);
  const documents = [...previous.documents];
  const moves: Move[] = [...touched].map(([id, before]) => ({
    id,
    from: before && positionOf(documents, before, compare),
    to: undefined,
  }));
  const leaving = moves.filter(({ from }) => from !== undefined).sort((a, b) => b.from! - a.from!);
  for (const { from } of leaving) documents.splice(from!, 1);
  // In order, so that none moves one that was inserted before.
  const arriving = moves.filter(({ id }) => state.has(id));
  if (arriving.length > 1) arriving.sort((a, b) => compare(state.get(a.id)!, state.get(b.id)!));
  for (const move of arriving) {
    const document = state.get(move.id)!;
    move.to = search(documents, document, compare);
    documents.splice(move.to, 0, document);
  }
  const changes = moves.filter(({ from, to }) => from !== undefined || to !== undefined);
  return previous.with({ state: 'live', documents, changes, seq });
}

/**
 * A view with pending writes, without documents that must not be shown.
 *
 * @param previous the previous view
 * @param base the view without pending writes
 * @param pending by id, each document touched by pending writes as it is shown; undefined if it is not
 * @param fits whether a document is shown
 * @param limit the maximum number of documents
 */
export function overlayView(
  previous: DocumentsView,
  base: DocumentsView,
  pending: ReadonlyMap<string, Document | undefined>,
  fits: (document: Document) => boolean,
  compare: Compare,
  limit: number,
): DocumentsView {
  const documents = base.documents.filter((document) => !pending.has(document.id) && fits(document));
  for (const document of pending.values()) {
    if (document && fits(document)) documents.splice(search(documents, document, compare), 0, document);
  }
  if (documents.length > limit) documents.length = limit;
  const shown = base.with({ documents, pending: new Set(pending.keys()) });
  return shown.with({ changes: movesBetween(previous, shown) });
}

/** What became of each document between two views. Documents that are the same object and stand where they did are left out. */
export function movesBetween(previous: View, next: View): Move[] {
  // Most documents keep their place at both ends; only those between are compared by id.
  const [before, after] = [previous.documents, next.documents];
  let start = 0;
  while (start < before.length && start < after.length && before[start] === after[start]) start++;
  let tail = 0;
  while (
    tail < before.length - start &&
    tail < after.length - start &&
    before.length === after.length &&
    before[before.length - 1 - tail] === after[after.length - 1 - tail]
  )
    tail++;
  const positions = new Map(before.slice(start, before.length - tail).map(({ id }, index) => [id, start + index]));
  const moves: Move[] = [];
  for (let to = start; to < after.length - tail; to++) {
    const document = after[to]!;
    const from = positions.get(document.id);
    if (from !== to || before[from] !== document) moves.push({ id: document.id, from, to });
    positions.delete(document.id);
  }
  for (const [id, from] of positions) moves.push({ id, from, to: undefined });
  return moves;
}

function positionOf(documents: readonly Document[], document: Document, compare: Compare): number | undefined {
  const index = search(documents, document, compare);
  return documents[index]?.id === document.id ? index : undefined;
}

/** The place of a document among others that stand in order. */
function search(documents: readonly Document[], document: Document, compare: Compare): number {
  let low = 0;
  let high = documents.length;
  while (low < high) {
    const middle = (low + high) >>> 1;
    if (compare(documents[middle]!, document) < 0) low = middle + 1;
    else high = middle;
  }
  return low;
}
