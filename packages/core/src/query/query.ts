import { isCollectionName, type Document } from '../document.js';
import { isObject, setMember, type JsonObject, type JsonValue } from '../json.js';
import { compareStrings, compareValues } from '../order.js';
import { formatCql2Json, parseCql2Json } from './cql2-json.js';
import { compile, type Predicate } from './evaluate.js';
import { valueOfField } from './fields.js';
import { joinName, splitName } from './names.js';
import { compareBy, formatTerm, orderValue, parseOrder, splitList, type OrderTerm } from './order-terms.js';
import { parseText } from './parse-text.js';
import { QueryError, type Node } from './tree.js';

/** A query as it is asked: everything but `from` may be left out. */
export interface QueryForm {
  from: string;
  /** A condition in CQL2 text, or in CQL2 JSON. */
  where?: string | JsonObject | boolean;
  /** Fields to order by, `-` before one for descending: `-altitude,name`. */
  order?: string;
  limit?: number | 'none';
  /** The cursor `next` of the result before. */
  after?: string;
  /** The fields wanted: `name,pilot.name`. */
  fields?: string;
}

/** A query made ready to be asked. */
export interface Query {
  readonly from: string;
  /** The condition as it was asked. */
  readonly asked: Node | undefined;
  /** The condition that decides: what was asked, and what the one who asks may read. */
  readonly where: Node | undefined;
  readonly order: readonly OrderTerm[];
  /** Undefined: no limit. */
  readonly limit: number | undefined;
  readonly after: Cursor | undefined;
  readonly fields: readonly (readonly string[])[] | undefined;
  /** Tells whether a document belongs to the query, the limit aside. */
  readonly matches: Predicate;
  /** Compares two documents by the order of the query; never 0 for different ids. */
  readonly compare: (a: Document, b: Document) => number;
  /** A document as it is shown: without what is concealed, and of the rest the fields wanted. */
  readonly show: (document: Document) => Document;
  /** True when documents are shown as they are. */
  readonly whole: boolean;
  /** The same for every query that asks the same thing in the same form, and gets the same to see. */
  readonly key: string;
}

/** Alters queries for somebody who may not see everything. */
export interface QueryLens {
  /** The condition that decides, for the one that is asked. */
  where(asked: Node | undefined): Node | undefined;
  order(order: OrderTerm[]): OrderTerm[];
  /** A document as it is to be seen; undefined: as it is. */
  show: ((document: Document) => Document) | undefined;
  /** Tells apart what `where` and `order` do not. */
  key: JsonValue | readonly (readonly string[])[];
}

/** The place in an order behind which a result goes on. */
export interface Cursor {
  values: (JsonValue | undefined)[];
  id: string;
}

/** Results are cut to this many documents unless the query says otherwise. */
export const DEFAULT_LIMIT = 500;
export const MAX_LIMIT = 10_000;
const MAX_FIELDS = 100;

/**
 * Makes a query ready.
 *
 * @param lens what it is seen through by the one who asks
 * @throws {QueryError} with the position in `where`, or a message that names the part at fault
 */
export function prepareQuery(form: QueryForm, lens?: QueryLens): Query {
  if (!isCollectionName(form.from))
    throw new QueryError(`"${form.from}" cannot be the name of a collection.`, undefined, '/from');
  const asked = readWhere(form.where);
  const where = lens ? lens.where(asked) : asked;
  const terms = form.order === undefined ? [] : parseOrder(form.order);
  const order = lens ? lens.order(terms) : terms;
  const limit = form.limit === 'none' ? undefined : (form.limit ?? DEFAULT_LIMIT);
  if (limit !== undefined && (!Number.isInteger(limit) || limit < 1 || limit > MAX_LIMIT)) {
    throw new QueryError(`The limit is a whole number from 1 to ${MAX_LIMIT}, or "none".`, undefined, '/limit');
  }
  const after = form.after === undefined ? undefined : readCursor(form.after, order);
  const fields = form.fields === undefined ? undefined : readFields(form.fields, terms);
  const compare = compareBy(order);
  const truth: Predicate = where ? compile(where) : () => true;
  const matches: Predicate = after
    ? (scope) => (truth(scope) === true ? compareToCursor(scope.document, after, order) > 0 : false)
    : truth;
  // Two queries that come to the same under one policy may come to different things under the next.
  const key = JSON.stringify([
    form.from,
    asked ? formatCql2Json(asked) : null,
    where && where !== asked ? formatCql2Json(where) : null,
    terms.map(formatTerm),
    limit ?? null,
    form.after ?? null,
    fields?.map(joinName) ?? null,
    lens?.key ?? null,
  ]);
  const see = lens?.show;
  const whole = !fields && !see;
  const show = (document: Document): Document => project(see ? see(document) : document, fields);
  return { from: form.from, asked, where, order, limit, after, fields, matches, compare, show, whole, key };
}

function readWhere(where: QueryForm['where']): Node | undefined {
  if (where === undefined || where === '') return undefined;
  return typeof where === 'string' ? parseText(where) : parseCql2Json(where);
}

function compareToCursor(document: Document, { values, id }: Cursor, order: readonly OrderTerm[]): number {
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

function readCursor(text: string, order: readonly OrderTerm[]): Cursor {
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

/**
 * Reads a list of fields. What a result is ordered by is always shown, so that whoever keeps a copy can keep it in order.
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
    throw new QueryError(`At most ${MAX_FIELDS} fields can be asked for.`, undefined, '/fields');
  return names.map(splitName).sort((a, b) => compareStrings(joinName(a), joinName(b)));
}

function withOrderFields(fields: string[][], order: readonly OrderTerm[]): string[][] {
  const meta = order.find((term) => term.meta && term.path[0] !== 'id');
  if (meta) {
    throw new QueryError(
      `A query with "fields" shows no bookkeeping, so it cannot be ordered by ${formatTerm(meta)}.`,
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
export function project(document: Document, fields: Query['fields']): Document {
  if (!fields) return document;
  const data: JsonObject = {};
  for (const path of fields) {
    const value = valueOfField(document, path);
    if (value !== undefined) place(data, path, value);
  }
  // A projected document has no bookkeeping, so that it does not alter when other fields do.
  return { id: document.id, data } as unknown as Document;
}

function place(target: JsonObject, path: readonly string[], value: JsonValue): void {
  let current = target;
  for (const name of path.slice(0, -1)) {
    const inner = Object.hasOwn(current, name) ? current[name] : undefined;
    // An object that came from the document itself must not be altered.
    const next: JsonObject = isObject(inner as JsonValue) ? { ...(inner as JsonObject) } : {};
    setMember(current, name, next);
    current = next;
  }
  setMember(current, path.at(-1)!, value);
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
