import {
  formatTerm,
  indexKey,
  isTaken,
  joinName,
  ownerOf,
  type Document,
  type Include,
  type Query,
  type Relations,
} from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { tooManyBytes } from '../limits/costs.js';
import type { Collections } from './collections.js';
import { readStored, type StoredDocument } from './documents.js';
import type { IndexInfo, Indexes } from './indexes.js';

/** Rows of the store, at one state of it. */
export interface Rows {
  get(collection: number, id: string): StoredDocument | undefined;
  all(sql: string, parameters: readonly unknown[]): Iterable<StoredDocument>;
}

/** The number of documents scanned for the related documents of one document, without an index. */
const MAX_LOOKED_AT = 10_000;

/** The maximum number of related documents of a result, over all levels. */
const MAX_RELATED = 100_000;

/** The maximum number for one document of it, which are looked up at once. */
const MAX_OF_ONE = 10_000;

/** Looked up documents may have this many times the bytes of the result, since not all of each is returned. */
const RAW_BYTES_FACTOR = 2;

const COLUMNS = 'd.number, d.id, d.version, d.created, d.updated, d.expires, d.data';

/** Finds related documents in the store: by their ids, or by an index on the field that holds an id. */
export class StoredRelations implements Relations {
  readonly #collections: Collections;
  readonly #indexes: Indexes;
  readonly #rows: Rows;
  /** Documents read from collections without an index, by owner; valid while the rows do not change. */
  readonly #scanned: Map<Include, Map<string, Document[]>> | undefined;
  #left = MAX_RELATED;
  #leftOfOne = MAX_OF_ONE;
  #lifted = false;
  #streams = false;
  /** How many documents have been looked up. */
  looked = 0;
  readonly #mostBytes: number;
  #bytesLeft: number;

  /**
   * @param fixed true if the rows do not change during use
   * @param limits the bytes that may be looked up
   */
  constructor(
    store: { collections: Collections; indexes: Indexes },
    rows: Rows,
    fixed: boolean,
    { bytes = Infinity }: { bytes?: number | undefined } = {},
  ) {
    this.#mostBytes = this.#bytesLeft = RAW_BYTES_FACTOR * bytes;
    this.#collections = store.collections;
    this.#indexes = store.indexes;
    this.#rows = rows;
    this.#scanned = fixed ? new Map() : undefined;
  }

  /** Continues with the related documents of the next document of the result. */
  next(): void {
    if (!this.#lifted) this.#leftOfOne = MAX_OF_ONE;
    if (this.#streams) this.#bytesLeft = this.#mostBytes;
  }

  /** Has the result as a whole be as long as it likes, since it is not kept. */
  continueReading(): void {
    this.#left = Infinity;
    this.#streams = true;
  }

  /** Removes the limits. Documents that are already shown must be kept up to date at any cost. */
  lift(): void {
    this.#lifted = true;
    this.#left = this.#leftOfOne = this.#bytesLeft = Infinity;
  }

  get(include: Include, id: string): Document | undefined {
    const info = this.#collections.get(include.query.from);
    // Counted whether it exists or not, so that the count reveals nothing about hidden documents.
    this.#count(1);
    const { where } = include.query;
    if (!info || (where?.kind === 'literal' && where.value === false)) return undefined;
    const stored = this.#rows.get(info.number, id);
    if (!stored) return undefined;
    const document = readStored(stored);
    if (isTaken(include, document)) this.#countBytes(stored);
    return document;
  }

  find(include: Include, owner: string, wanted: number): { documents: Document[]; more: boolean } {
    const info = this.#collections.get(include.query.from);
    if (!info) return { documents: [], more: false };
    const index = indexFor(include, this.#indexes.usable(info.number));
    if (!index) {
      const documents = this.#scan(include, info.number).get(owner) ?? [];
      return { documents: documents.slice(0, wanted), more: documents.length > wanted };
    }
    const ordered = givesOrder(index, include.query);
    const order = index.terms.slice(1).map(({ descending }, place) => `i.k${place + 1}${descending ? ' DESC' : ''}`);
    const sql =
      `SELECT ${COLUMNS} FROM index_${index.number} i CROSS JOIN documents d ON d.number = i.document ` +
      `WHERE i.k0 = ?${ordered ? ` ORDER BY ${[...order, 'i.id'].join(', ')}` : ''}`;
    const documents: Document[] = [];
    let lookedAt = 0;
    for (const stored of this.#rows.all(sql, [Buffer.from(indexKey(owner))])) {
      if (++lookedAt > this.#most) throw this.#tooMany(include);
      const document = readStored(stored);
      if (ownerOf(include, document) !== owner || !isTaken(include, document)) continue;
      this.#countBytes(stored);
      documents.push(document);
      if (ordered && documents.length > wanted) break;
    }
    this.#count(documents.length);
    if (!ordered) documents.sort(include.query.compare);
    return { documents: documents.slice(0, wanted), more: documents.length > wanted };
  }

  /**
   * All documents of a collection that an include may select, by the value they are related to, each list in order.
   */
  #scan(include: Include, collection: number): Map<string, Document[]> {
    const known = this.#scanned?.get(include);
    if (known) return known;
    const byOwner = new Map<string, Document[]>();
    let lookedAt = 0;
    for (const stored of this.#rows.all(`SELECT ${COLUMNS} FROM documents d WHERE d.collection = ?`, [collection])) {
      if (++lookedAt > this.#most) throw this.#tooMany(include);
      const document = readStored(stored);
      const owner = ownerOf(include, document);
      if (owner === undefined || !isTaken(include, document)) continue;
      this.#countBytes(stored);
      const others = byOwner.get(owner);
      if (others) others.push(document);
      else byOwner.set(owner, [document]);
    }
    this.looked += lookedAt;
    for (const documents of byOwner.values()) documents.sort(include.query.compare);
    this.#scanned?.set(include, byOwner);
    return byOwner;
  }

  get #most(): number {
    return this.#lifted ? Infinity : MAX_LOOKED_AT;
  }

  #count(documents: number): void {
    this.looked += documents;
    this.#left -= documents;
    this.#leftOfOne -= documents;
    if (this.#left >= 0 && this.#leftOfOne >= 0) return;
    const most =
      this.#left < 0
        ? `${MAX_RELATED.toLocaleString('en-GB')} related documents`
        : `${MAX_OF_ONE.toLocaleString('en-GB')} related documents for one document`;
    throw problemError(
      'query-too-costly',
      `The includes of this query would read more than ${most}. Request fewer documents, or set a smaller limit for the includes.`,
    );
  }

  #countBytes({ data }: StoredDocument): void {
    this.#bytesLeft -= data.length;
    if (this.#bytesLeft < 0) throw tooManyBytes('The related documents of this query', this.#mostBytes);
  }

  #tooMany(include: Include): Error {
    return problemError(
      'query-too-costly',
      `The include ${include.name} would scan more than ${MAX_LOOKED_AT.toLocaleString('en-GB')} documents of ${include.query.from} for one document. An index would help: ${adviseIncludeIndex(include)}`,
    );
  }
}

/**
 * Refuses includes that would have to read a whole collection, because there is no index on the field that holds the id.
 *
 * @param hintFor what else there is to say of one that is refused
 * @throws {ProblemError} `index-missing`, with the index to make
 */
export function checkIncludes(
  query: Query,
  store: { collections: Collections; indexes: Indexes; scanIncludes: boolean },
  hintFor: (include: Include) => string,
): void {
  if (store.scanIncludes) return;
  for (const include of query.includes) {
    checkIncludes(include.query, store, hintFor);
    if (!include.by) continue;
    const info = store.collections.get(include.query.from);
    if (info && indexFor(include, store.indexes.usable(info.number))) continue;
    throw problemError(
      'index-missing',
      `The include ${include.name} looks up ${include.query.from} by ${joinName(include.by)}, a field without an index.${hintFor(include)} Create one: ${adviseIncludeIndex(include)} (or allow full scans with --scan-includes).`,
      { pointer: `/include/${include.name}` },
    );
  }
}

/** The command that makes the index which an include is looked up best by. */
export function adviseIncludeIndex(include: Include): string {
  return `uproar index create ${include.query.from} '${includeIndexFields(include)}'`;
}

/** The index to look an include up by: best one that gives its order too. */
export function indexFor(include: Include, indexes: readonly IndexInfo[]): IndexInfo | undefined {
  const path = include.by!;
  const usable = indexes.filter(({ terms: [first] }) => first && !first.meta && samePath(first.path, path));
  return usable.find((index) => givesOrder(index, include.query)) ?? usable[0];
}

function includeIndexFields({ by, query }: Include): string {
  // In the form of the request, so that it reveals nothing of concealed fields.
  const order = query.askedOrder.map(formatTerm);
  return [joinName(by!), ...order].join(',');
}

/** Whether the documents of one owner come out of an index in the order of a query. */
function givesOrder({ terms }: IndexInfo, { order }: Query): boolean {
  return (
    order.length === terms.length - 1 &&
    order.every((term, place) => {
      const other = terms[place + 1]!;
      return term.meta === other.meta && term.descending === other.descending && samePath(term.path, other.path);
    })
  );
}

function samePath(a: readonly string[], b: readonly string[]): boolean {
  return a.length === b.length && a.every((name, place) => name === b[place]);
}
