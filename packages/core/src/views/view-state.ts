import type { DocumentChange } from '../write/commit.js';
import { diff } from '../json/diff.js';
import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import { applyPatch, PatchError, type JsonPatch, type PatchOperation } from '../json/json-patch.js';
import { escapeToken, unescapeToken } from '../json/pointer.js';

/** Whether a document belongs to a view. */
export type Membership = (document: Document) => boolean;

/** The patches of changes to documents that are shown whole. Many views may show the same change. */
const wholePatches = new WeakMap<DocumentChange, JsonPatch>();

/**
 * The effect of changes on the state of a watch, as a JSON Patch whose paths begin with the id. A document that enters
 * is added, one that leaves is removed, one that stays is patched field by field.
 *
 * @param changes net changes: at most one for each document
 * @param show the part of a document that the watch shows
 * @returns the patch, which other views may share: do not change it
 */
export function patchForChanges(
  changes: readonly DocumentChange[],
  belongs: Membership,
  show: (document: Document) => Document = (document) => document,
): JsonPatch {
  const [first] = changes;
  if (first && changes.length === 1) return patchForChange(first, belongs, show);
  return changes.flatMap((change) => patchForChange(change, belongs, show));
}

function patchForChange(
  change: DocumentChange,
  belongs: Membership,
  show: (document: Document) => Document,
): JsonPatch {
  const { id, before, after } = change;
  const was = before && belongs(before) ? show(before) : undefined;
  const is = after && belongs(after) ? show(after) : undefined;
  const path = `/${escapeToken(id)}`;
  if (!was) return is ? [{ op: 'add', path, value: is as unknown as JsonValue }] : [];
  if (!is) return [{ op: 'remove', path }];
  if (was !== before || is !== after) return diff(was as unknown as JsonValue, is as unknown as JsonValue, path);
  let patch = wholePatches.get(change);
  if (!patch) {
    patch = diff(was as unknown as JsonValue, is as unknown as JsonValue, path);
    wholePatches.set(change, patch);
  }
  return patch;
}

/**
 * Applies the patch of a `change` to a copy of the state, kept in a map by id. Untouched documents keep their object
 * identity; touched ones are replaced, never changed in place.
 *
 * @returns the touched documents by id, in their state before; undefined if they did not exist
 * @throws {PatchError} when the patch does not fit the state, which means that the copy is wrong
 */
export function applyChange(state: Map<string, Document>, patch: JsonPatch): Map<string, Document | undefined> {
  const touched = new Map<string, Document | undefined>();
  for (let start = 0; start < patch.length;) {
    const [token, rest] = splitPath(patch[start]!.path);
    const id = unescapeToken(token);
    let end = start + 1;
    if (rest !== '') while (end < patch.length && patch[end]!.path.startsWith(`/${token}/`)) end++;
    if (!touched.has(id)) touched.set(id, state.get(id));
    if (rest === '') applyToState(state, id, patch[start]!, start);
    else {
      const document = state.get(id);
      if (!document) throw new PatchError(`There is no document "${id}" to alter.`, start, patch[start]!.path);
      const operations = patch
        .slice(start, end)
        .map((operation) => ({ ...operation, path: splitPath(operation.path)[1] }));
      state.set(id, applyPatch(document as unknown as JsonValue, operations) as unknown as Document);
    }
    start = end;
  }
  return touched;
}

/** Splits a path behind its first reference token. */
function splitPath(path: string): [token: string, rest: string] {
  const slash = path.indexOf('/', 1);
  return slash === -1 ? [path.slice(1), ''] : [path.slice(1, slash), path.slice(slash)];
}

function applyToState(state: Map<string, Document>, id: string, operation: PatchOperation, index: number): void {
  const present = state.has(id);
  if (operation.op === 'remove' && present) state.delete(id);
  else if (operation.op === 'add' || (operation.op === 'replace' && present)) {
    state.set(id, operation.value as unknown as Document);
  } else throw new PatchError(`"${operation.op}" does not fit the document "${id}".`, index, operation.path);
}
