import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import { compareStrings, compareValues } from '../json/order.js';
import { formatTerm, orderValue, type OrderTerm } from './order-terms.js';
import { QueryError } from './tree.js';

/** The place in an order after which a result continues. */
export interface Cursor {
  values: (JsonValue | undefined)[];
  id: string;
}

/** Where a document stands in an order, seen from a cursor: behind it for a positive number. */
export function compareToCursor(document: Document, { values, id }: Cursor, order: readonly OrderTerm[]): number {
  for (const [index, term] of order.entries()) {
    const result = compareValues(orderValue(document, term), values[index]);
    if (result !== 0) return term.descending ? -result : result;
  }
  return compareStrings(document.id, id);
}

/** The cursor behind a document, as text for an address. */
export function writeCursor(document: Document, order: readonly OrderTerm[]): string {
  const values = order.map((term) => orderValue(document, term));
  const text = JSON.stringify([
    order.map(formatTerm).join(','),
    document.id,
    ...values.map((value) => (value === undefined ? [] : [value])),
  ]);
  return toBase64Url(text);
}

/**
 * Reads a cursor that was written with the same order.
 *
 * @throws {QueryError}
 */
export function readCursor(text: string, order: readonly OrderTerm[]): Cursor {
  const refuse = () =>
    new QueryError(
      'This cursor does not belong to this query. Use "next" as it was given, with the same order.',
      undefined,
      '/after',
    );
  let parts: unknown;
  try {
    parts = JSON.parse(fromBase64Url(text));
  } catch {
    throw refuse();
  }
  if (!Array.isArray(parts) || parts.length !== order.length + 2) throw refuse();
  const [terms, id, ...values] = parts as [unknown, unknown, ...unknown[]];
  if (terms !== order.map(formatTerm).join(',') || typeof id !== 'string') throw refuse();
  if (!values.every((value) => Array.isArray(value) && value.length <= 1)) throw refuse();
  return { id, values: (values as JsonValue[][]).map(([value]) => value) };
}

function toBase64Url(text: string): string {
  const bytes = new TextEncoder().encode(text);
  return btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join(''))
    .replaceAll('+', '-')
    .replaceAll('/', '_')
    .replaceAll('=', '');
}

function fromBase64Url(text: string): string {
  const binary = atob(text.replaceAll('-', '+').replaceAll('_', '/'));
  return new TextDecoder('utf-8', { fatal: true }).decode(
    Uint8Array.from(binary, (character) => character.charCodeAt(0)),
  );
}
