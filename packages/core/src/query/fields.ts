import type { Document } from '../document/document.js';
import { getMember, isObject, type JsonValue } from '../json/json.js';

/** The value at a path of a document's data; undefined if there is none. */
export function valueOfField(document: Document, path: readonly string[]): JsonValue | undefined {
  let current: JsonValue | undefined = document.data;
  for (const name of path) {
    if (!isObject(current as JsonValue)) return undefined;
    current = getMember(current as Record<string, JsonValue>, name);
  }
  return current;
}

/** The bookkeeping of a document that `meta()` reaches. */
export function metaValue(document: Document, name: string): JsonValue | undefined {
  return META_NAMES.has(name) ? document[name as 'id' | 'version' | 'created' | 'updated' | 'expires'] : undefined;
}

/** The bookkeeping of a document, by name. */
export const META_NAMES: ReadonlySet<string> = new Set(['id', 'version', 'created', 'updated', 'expires']);
