import type { Document } from '../document/document.js';
import { isObject, setMember, type JsonObject, type JsonValue } from '../json/json.js';
import { compareStrings } from '../json/order.js';
import { valueOfField } from './fields.js';
import { joinName, splitName } from './names.js';
import { formatTerm, splitList, type OrderTerm } from './order-terms.js';
import { QueryError } from './tree.js';

const MAX_FIELDS = 100;

/**
 * Parses a list of fields. The fields of the order are always included, so that copies can be sorted.
 *
 * @throws {QueryError}
 */
export function readFields(text: string, order: readonly OrderTerm[]): string[][] {
  return withOrderFields(parseFields(text), order);
}

function parseFields(text: string): string[][] {
  const names = splitList(text).map((name) => name.trim());
  if (names.some((name) => name === ''))
    throw new QueryError('The list of fields has an empty part.', undefined, '/fields');
  if (names.length > MAX_FIELDS)
    throw new QueryError(`At most ${MAX_FIELDS} fields are allowed.`, undefined, '/fields');
  return names.map(splitName).sort((a, b) => compareStrings(joinName(a), joinName(b)));
}

function withOrderFields(fields: string[][], order: readonly OrderTerm[]): string[][] {
  const meta = order.find((term) => term.meta && term.path[0] !== 'id');
  if (meta) {
    throw new QueryError(
      `A query with "fields" returns no metadata, so it cannot be sorted by ${formatTerm(meta)}.`,
      undefined,
      '/order',
    );
  }
  const named = new Set(fields.map(joinName));
  return [
    ...fields,
    ...order.filter((term) => !term.meta && !named.has(joinName(term.path))).map(({ path }) => [...path]),
  ];
}

/**
 * The part of a document that a query with `fields` shows: its id, and of its data the fields named. Without `fields` it is
 * the document itself.
 */
export function project(document: Document, fields: readonly (readonly string[])[] | undefined): Document {
  if (!fields) return document;
  const data: JsonObject = {};
  for (const path of fields) {
    const value = valueOfField(document, path);
    if (value !== undefined) place(data, path, value);
  }
  // A projected document has no metadata, so that it does not change when other fields do.
  return { id: document.id, data } as unknown as Document;
}

/** Sets a value at a path; creates or copies the objects in between. */
export function place(target: JsonObject, path: readonly string[], value: JsonValue): void {
  let current = target;
  for (const name of path.slice(0, -1)) {
    const inner = Object.hasOwn(current, name) ? current[name] : undefined;
    // An object of the document itself must not be changed.
    const next: JsonObject = isObject(inner as JsonValue) ? { ...(inner as JsonObject) } : {};
    setMember(current, name, next);
    current = next;
  }
  setMember(current, path.at(-1)!, value);
}
