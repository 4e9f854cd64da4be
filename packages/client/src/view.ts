import { applyChange, type Document, type JsonPatch } from '@uproar/core';
import type { Problem } from '@uproar/protocol';

/** Where a document stood in the view before, and where it stands now; undefined where it did not or does not. */
export interface Move {
  id: string;
  from: number | undefined;
  to: number | undefined;
}

/** What a watch shows at one moment. Views are never altered; each change makes another. */
export interface View {
  /**
   * `loading`: nothing is known yet. `live`: what is shown is so now. `stale`: it was so, but the connection is
   * broken. `failed`: the watch has ended; `error` tells why.
   */
  readonly state: 'loading' | 'live' | 'stale' | 'failed';
  /** The documents in order. One that did not change is the same object as in the view before. */
  readonly documents: readonly Document[];
  readonly byId: ReadonlyMap<string, Document>;
  /** What became of each document that altered since the view before. Empty when only the state did. */
  readonly changes: readonly Move[];
  /** True when a limit cuts what is shown: more documents belong to the query. */
  readonly more: boolean;
  /** The state of the store that the view shows; 0 while nothing is known. */
  readonly seq: number;
  readonly error?: Problem;
}

/** The first view of every watch. */
export const LOADING: View = { state: 'loading', documents: [], byId: new Map(), changes: [], more: false, seq: 0 };

/** A view of exactly these documents. Those equal in version to the ones shown before keep their identity. */
export function replaceView(previous: View, documents: readonly Document[], seq: number, more: boolean): View {
  const kept = documents.map((document) => {
    const before = previous.byId.get(document.id);
    return before?.version !== undefined && before.version === document.version ? before : document;
  });
  const byId = new Map(kept.map((document) => [document.id, document]));
  const positions = new Map(previous.documents.map((document, index) => [document.id, index]));
  const changes: Move[] = [];
  kept.forEach(({ id }, to) => {
    const from = positions.get(id);
    if (from !== to || previous.byId.get(id) !== byId.get(id)) changes.push({ id, from, to });
  });
  for (const [id, from] of positions) if (!byId.has(id)) changes.push({ id, from, to: undefined });
  return { state: 'live', documents: kept, byId, changes, more, seq };
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
  };
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
