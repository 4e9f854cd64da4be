import type Database from 'better-sqlite3';
import { indexKey, orderValue, parseOrder, type Document, type OrderTerm } from '@uproar/core';
import type { CollectionTable } from './collection-table.js';

/** The definition of a secondary index. */
export interface IndexDefinition {
  number: number;
  /** The number of the collection. */
  collection: number;
  /** The indexed fields, written like an order: `status,-altitude`. */
  fields: string;
  terms: OrderTerm[];
  created: number;
}

interface OpenIndex extends IndexDefinition {
  insert: Database.Statement<unknown[]>;
  remove: Database.Statement<unknown[]>;
  fill: Database.Statement<unknown[]>;
}

/** The keys of one document, for an index that is being filled. */
export interface IndexEntry {
  id: string;
  document: number;
  /** The version of the document that the keys were computed from. */
  version: number;
  keys: Buffer[];
}

export const SELECT_INDEXES = 'SELECT number, collection, fields, created FROM indexes ORDER BY number';
const INSERT = 'INSERT INTO indexes (collection, fields, created) VALUES (?, ?, ?)';
const DELETE = 'DELETE FROM indexes WHERE number = ?';
const READY = 'INSERT OR IGNORE INTO ready_indexes (number) VALUES (?)';
const NOT_READY = 'DELETE FROM ready_indexes WHERE number = ?';

/** The definitions of indexes and their entries. Each index has a table with a key for each field. */
export class IndexTable {
  readonly #database: Database.Database;
  readonly #collections: CollectionTable;
  readonly #byCollection = new Map<number, OpenIndex[]>();

  constructor(database: Database.Database, collections: CollectionTable) {
    this.#database = database;
    this.#collections = collections;
    this.reload();
  }

  /** Creates an index and its table, without entries. Returns the existing one if there is one. */
  create(collectionName: string, fields: string, timeMs: number): { number: number; created: boolean } {
    const collection = this.#collections.numberOf(collectionName, timeMs);
    const existing = this.#byCollection.get(collection)?.find((index) => index.fields === fields);
    if (existing) return { number: existing.number, created: false };
    const terms = parseOrder(fields);
    const number = Number(this.#database.prepare(INSERT).run(collection, fields, timeMs).lastInsertRowid);
    const columns = terms.map((_, index) => `k${index} BLOB NOT NULL`);
    const key = terms.map(({ descending }, index) => `k${index}${descending ? ' DESC' : ''}`);
    this.#database.exec(
      `CREATE TABLE index_${number} (${columns.join(', ')}, id TEXT NOT NULL, document INTEGER NOT NULL, ` +
        `PRIMARY KEY (${key.join(', ')}, id)) STRICT, WITHOUT ROWID`,
    );
    this.#open({ number, collection, fields, terms, created: timeMs });
    return { number, created: true };
  }

  /** Removes an index. Returns whether there was one. */
  remove(number: number): boolean {
    for (const [collection, indexes] of this.#byCollection) {
      const rest = indexes.filter((index) => index.number !== number);
      if (rest.length === indexes.length) continue;
      this.#byCollection.set(collection, rest);
      this.#database.prepare(DELETE).run(number);
      this.#database.prepare(NOT_READY).run(number);
      this.#database.exec(`DROP TABLE index_${number}`);
      return true;
    }
    return false;
  }

  /** Applies one change to the indexes of a collection. */
  update(collection: number, before: Document | undefined, after: Document | undefined, document: number): void {
    for (const { terms, insert, remove } of this.#byCollection.get(collection) ?? []) {
      const from = before && keysOf(before, terms);
      const to = after && keysOf(after, terms);
      // An index that is being filled may lack the entry, so an unchanged one is inserted, too. Existing ones are kept.
      const same = from && to && from.every((key, position) => key.equals(to[position]!));
      if (from && !same) remove.run(...from, before!.id);
      if (to) insert.run(...to, after!.id, document);
    }
  }

  /** Adds entries to an index that is being filled, of documents that did not change since. Derived from the documents. */
  fill(number: number, entries: readonly IndexEntry[]): void {
    const index = this.#find(number);
    if (!index) return;
    for (const { id, document, version, keys } of entries) index.fill.run(...keys, id, document, document, version);
  }

  /** Marks an index as filled. Local: on each node an index becomes ready at its own time. */
  setReady(number: number): void {
    if (this.#find(number)) this.#database.prepare(READY).run(number);
  }

  /** Reads the definitions on disk again, after a failed transaction. */
  reload(): void {
    this.#byCollection.clear();
    for (const row of this.#database.prepare<[], Omit<IndexDefinition, 'terms'>>(SELECT_INDEXES).all()) {
      this.#open({ ...row, terms: parseOrder(row.fields) });
    }
  }

  #find(number: number): OpenIndex | undefined {
    for (const indexes of this.#byCollection.values()) {
      const index = indexes.find((other) => other.number === number);
      if (index) return index;
    }
    return undefined;
  }

  #open(definition: IndexDefinition): void {
    const { number, terms, collection } = definition;
    const columns = terms.map((_, index) => `k${index}`);
    const places = columns.map(() => '?').join(', ');
    const insert = `INSERT OR IGNORE INTO index_${number} (${columns.join(', ')}, id, document)`;
    const index = {
      ...definition,
      insert: this.#database.prepare(`${insert} VALUES (${places}, ?, ?)`),
      remove: this.#database.prepare(
        `DELETE FROM index_${number} WHERE ${columns.map((name) => `${name} = ?`).join(' AND ')} AND id = ?`,
      ),
      fill: this.#database.prepare(`${insert} SELECT ${places}, ?, ? FROM documents WHERE number = ? AND version = ?`),
    };
    this.#byCollection.set(collection, [...(this.#byCollection.get(collection) ?? []), index]);
  }
}

/** The keys of a document in an index, ordered as the values are. */
export function keysOf(document: Document, terms: readonly OrderTerm[]): Buffer[] {
  return terms.map((term) => Buffer.from(indexKey(orderValue(document, term))));
}
