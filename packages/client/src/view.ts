import { applyChange, type Document, type JsonObject, type JsonPatch } from '@uproar/core';
import type { Problem } from '@uproar/protocol';

/** A document whose data is of a known type. */
export type TypedDocument<Data = JsonObject> = Omit<Document, 'data'> & { data: Data };

const NONE: ReadonlySet<string> = new Set();

/** Where a document stood in the view before, and where it stands now; undefined where it did not or does not. */
export interface Move {
  id: string;
  from: number | undefined;
  to: number | undefined;
}

/** What a watch shows at one moment. Views are never altered; each change makes another. */
export interface View<Data = JsonObject> {
  /**
   * `loading`: nothing is known yet. `live`: what is shown is so now. `stale`: it was so, but the connection is
   * broken. `failed`: the watch has ended; `error` tells why.
   */
  readonly state: 'loading' | 'live' | 'stale' | 'failed';
  /** The documents in order. One that did not change is the same object as in the view before. */
  readonly documents: readonly TypedDocument<Data>[];
  readonly byId: ReadonlyMap<string, TypedDocument<Data>>;
  /** What became of each document that altered since the view before. Empty when only the state did. */
  readonly changes: readonly Move[];
  /** True when a limit cuts what is shown: more documents belong to the query. */
  readonly more: boolean;
  /** The state of the store that the view shows; 0 while nothing is known. */
  readonly seq: number;
  /** The ids of documents that show writes of this client which the store has not acknowledged yet. */
  readonly pending: ReadonlySet<string>;
  readonly error?: Problem;
}

/** The first view of every watch. */
export const LOADING: View = {
  state: 'loading',
  documents: [],
  byId: new Map(),
  changes: [],
  more: false,
  seq: 0,
  pending: NONE,
};

/** A view of exactly these documents. Those equal in version to the ones shown before keep their identity. */
export function replaceView(previous: View, documents: readonly Document[], seq: number, more: boolean): View {
  const kept = documents.map((document) => {
    const before = previous.byId.get(document.id);
    return before?.version !== undefined && before.version === document.version ? before : document;
  });
  const byId = new Map(kept.map((document) => [document.id, document]));
  const changes = movesBetween(previous, { documents: kept, byId });
  return { state: 'live', documents: kept, byId, changes, more, seq, pending: NONE };
}

/** Compares two documents by the order of a watch. */
export type Compare = (a: Document, b: Document) => number;

/**
 * The view after a patch.
 *
 * @throws {PatchError} when the patch does not fit, which means that the view is not sound
 */
export function patchView(previous: View, patch: JsonPatch, seq: number, compare: Compare): View {
  const byId = new Map(previous.byId);
  const touched = applyChange(byId, patch);
  const documents = [...previous.documents];
  const moves = [...touched].map((id) => ({
    id,
    from: positionOf(previous.documents, previous.byId.get(id), compare),
  }));
  for (const id of touched) {
    const at = positionOf(documents, previous.byId.get(id), compare);
    if (at !== undefined) documents.splice(at, 1);
  }
  for (const id of touched) {
    const document = byId.get(id);
    if (document) documents.splice(search(documents, document, compare), 0, document);
  }
  const changes = moves.map((move) => ({ ...move, to: positionOf(documents, byId.get(move.id), compare) }));
  return {
    state: 'live',
    documents,
    byId,
    changes: changes.filter(({ from, to }) => from !== undefined || to !== undefined),
    more: previous.more,
    seq,
    pending: NONE,
  };
}

/**
 * A view with pending writes in it, and without documents that are not to be shown.
 *
 * @param previous what was shown before
 * @param base the view as the store told it
 * @param pending by id, each document that pending writes touch as it is to be shown; undefined where it is not
 * @param fits tells which documents are to be shown
 * @param limit the most documents to show
 */
export function overlayView(
  previous: View,
  base: View,
  pending: ReadonlyMap<string, Document | undefined>,
  fits: (document: Document) => boolean,
  compare: Compare,
  limit: number,
): View {
  const documents = base.documents.filter((document) => !pending.has(document.id) && fits(document));
  for (const document of pending.values()) {
    if (document && fits(document)) documents.splice(search(documents, document, compare), 0, document);
  }
  if (documents.length > limit) documents.length = limit;
  const byId = new Map(documents.map((document) => [document.id, document]));
  const shown = { ...base, documents, byId, pending: new Set(pending.keys()) };
  return { ...shown, changes: movesBetween(previous, shown) };
}

/** What became of each document between two views. Documents that are the same object and stand where they did are left out. */
export function movesBetween(previous: View, next: Pick<View, 'documents' | 'byId'>): Move[] {
  const positions = new Map(previous.documents.map(({ id }, index) => [id, index]));
  const moves: Move[] = [];
  next.documents.forEach((document, to) => {
    const from = positions.get(document.id);
    if (from !== to || previous.byId.get(document.id) !== document) moves.push({ id: document.id, from, to });
  });
  for (const [id, from] of positions) if (!next.byId.has(id)) moves.push({ id, from, to: undefined });
  return moves;
}

function positionOf(
  documents: readonly Document[],
  document: Document | undefined,
  compare: Compare,
): number | undefined {
  if (!document) return undefined;
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
