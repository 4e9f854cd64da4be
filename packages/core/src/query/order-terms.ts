import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import { compareStrings, compareValues } from '../json/order.js';
import { valueOfField, META_NAMES, metaValue } from './fields.js';
import { joinName, splitName } from './names.js';
import { QueryError } from './tree.js';

const MAX_TERMS = 8;

/** One field to order by. */
export interface OrderTerm {
  /** The path in the data; for bookkeeping, the one name that `meta()` knows. */
  path: readonly string[];
  meta: boolean;
  descending: boolean;
}

/** The value of a document that an order term looks at. */
export function orderValue(document: Document, { path, meta }: OrderTerm): JsonValue | undefined {
  return meta ? metaValue(document, path[0]!) : valueOfField(document, path);
}

/** Compares documents by the terms one after the other, then by id. */
export function compareBy(order: readonly OrderTerm[]): (a: Document, b: Document) => number {
  if (order.length === 0) return (a, b) => compareStrings(a.id, b.id);
  return (a, b) => {
    for (const term of order) {
      const result = compareValues(orderValue(a, term), orderValue(b, term));
      if (result !== 0) return term.descending ? -result : result;
    }
    return compareStrings(a.id, b.id);
  };
}

/**
 * Reads an order such as `-altitude,name` or `-meta('updated')`.
 *
 * @throws {QueryError} with the position in the text
 */
export function parseOrder(text: string): OrderTerm[] {
  const terms: OrderTerm[] = [];
  let start = 0;
  for (const part of splitList(text)) {
    const at = start + part.search(/\S|$/);
    start += part.length + 1;
    const trimmed = part.trim();
    const descending = trimmed.startsWith('-');
    const name = trimmed.replace(/^[-+]\s*/, '');
    const meta = /^meta\(\s*'([^']*)'\s*\)$/i.exec(name)?.[1];
    if (name === '') throw new QueryError('The order has an empty part.', at, '/order', ['a field']);
    if (meta !== undefined && !META_NAMES.has(meta)) {
      throw new QueryError(
        `meta() supports 'id', 'version', 'created', 'updated' and 'expires', not '${meta}'.`,
        at,
        '/order',
      );
    }
    if (meta === undefined && /[()']/.test(name.replace(/"(?:[^"]|"")*"/g, ''))) {
      throw new QueryError(`"${name}" is not a field to sort by.`, at, '/order', ['a field', "meta('updated')"]);
    }
    terms.push({ path: meta === undefined ? splitName(name) : [meta], meta: meta !== undefined, descending });
  }
  if (terms.length > MAX_TERMS)
    throw new QueryError(`The order has ${terms.length} parts; at most ${MAX_TERMS} are allowed.`, 0, '/order');
  return terms;
}

/** A term as it is written. */
export function formatTerm({ path, meta, descending }: OrderTerm): string {
  return `${descending ? '-' : ''}${meta ? `meta('${path[0]}')` : joinName(path)}`;
}

/** Cuts at commas that do not stand within double quotes. */
export function splitList(text: string): string[] {
  return text.match(/(?:"(?:[^"]|"")*"|[^,"])+|(?<=,)(?=,|$)|^(?=,)|^$/g) ?? [''];
}
