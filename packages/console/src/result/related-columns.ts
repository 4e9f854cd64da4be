import type { JsonObject, JsonValue, TypedDocument } from '@uproar/client';
import type { Frame } from '../table/pausable-view';

/** What the names of related documents begin with, as columns. */
const MARK = '→ ';

/** The flattened form of an unchanged document is reused, so that its row is not drawn again. */
const made = new WeakMap<TypedDocument, TypedDocument>();

/** A frame whose documents have their related documents as fields for the table: `→ crew`. */
export function withRelated(frame: Frame): Frame {
  const { view, altered } = frame;
  if (!view.documents.some(({ related }) => related)) return frame;
  const { state, changes, more, seq, pending } = view;
  const shown = { state, changes, more, seq, pending, byId: view.byId, documents: view.documents.map(flatten) };
  return { view: shown, altered: new Map([...altered].map(([id, before]) => [id, before && flatten(before)])) };
}

/** Whether a column shows related documents. */
export function isRelated(path: readonly string[]): boolean {
  return path[0]?.startsWith(MARK) ?? false;
}

function flatten(document: TypedDocument): TypedDocument {
  const known = made.get(document);
  if (known) return known;
  const related = Object.entries(document.related ?? {}).map(([name, found]) => [MARK + name, cellOf(found)]);
  const flat = { ...document, data: { ...(Object.fromEntries(related) as JsonObject), ...document.data } };
  made.set(document, flat);
  return flat;
}

/** One document as an object whose members can be unfolded, several by their ids. */
function cellOf(found: TypedDocument | null | TypedDocument[]): JsonValue {
  if (found === null) return null;
  return Array.isArray(found) ? found.map(({ id }) => id).join(', ') : { id: found.id, ...found.data };
}
