import type Database from 'better-sqlite3';
import { formatTerm, indexKey, orderValue, parseOrder, type Document, type OrderTerm } from '@uproar/core';
import type { Collections } from './collections.js';
import { readStored, type Documents } from './documents.js';

/** A secondary index of a collection. */
export interface IndexInfo {
  number: number;
  /** The number of the collection. */
  collection: number;
  /** The indexed fields, written like an order: `status,-altitude`. */
  fields: string;
  terms: OrderTerm[];
  /** False while it is still being filled; then no query uses it. */
  ready: boolean;
  created: number;
}

interface OpenIndex extends IndexInfo {
  insert: Database.Statement<unknown[]>;
  remove: Database.Statement<unknown[]>;
  /** Ends when it is filled. */
  filling?: Promise<void>;
}

/** The number of documents added to a new index at a time, so that other requests are served in between. */
const FILL_AT_ONCE = 500;

/** The secondary indexes of a store. Each has a table with a key for each field, ordered as the values are. */
export class Indexes {
  readonly #database: Database.Database;
  readonly #collections: Collections;
  readonly #documents: Documents;
  readonly #byCollection = new Map<number, OpenIndex[]>();
  /** The same array until the indexes change. */
  readonly #usable = new Map<number, readonly IndexInfo[]>();

  constructor(database: Database.Database, collections: Collections, documents: Documents) {
    this.#database = database;
    this.#collections = collections;
    this.#documents = documents;
    const rows = database
      .prepare<[], Omit<IndexInfo, 'terms' | 'ready'> & { ready: number }>(
        'SELECT number, collection, fields, ready, created FROM indexes',
      )
      .all();
    for (const row of rows) {
      // An index that was being filled when the process ended is created again on request.
      if (row.ready) this.#open({ ...row, ready: true, terms: parseOrder(row.fields) });
      else this.#dropTable(row.number);
    }
  }

  /** All indexes, those of one collection together. */
  list(): IndexInfo[] {
    return [...this.#byCollection.values()].flat().map(describe);
  }

  /** The indexes that queries of a collection may use. */
  usable(collection: number): readonly IndexInfo[] {
    let usable = this.#usable.get(collection);
    if (!usable) {
      usable = (this.#byCollection.get(collection) ?? []).filter(({ ready }) => ready);
      this.#usable.set(collection, usable);
    }
    return usable;
  }

  /**
   * Makes an index and fills it, a part at a time. Concurrent writes are included. An index that exists
   * already is returned once it is filled; one that could not be filled is gone again.
   */
  async create(collectionName: string, terms: OrderTerm[], timeMs: number): Promise<IndexInfo> {
    const fields = terms.map(formatTerm).join(',');
    const collection = this.#collections.numberOf(collectionName, timeMs);
    const existing = this.#byCollection.get(collection)?.find((index) => index.fields === fields);
    if (existing) {
      await existing.filling;
      return describe(existing);
    }
    this.#dropUnfinished(collection, fields);
    const number = this.#database.transaction(() => {
      const { lastInsertRowid } = this.#database
        .prepare('INSERT INTO indexes (collection, fields, ready, created) VALUES (?, ?, 0, ?)')
        .run(collection, fields, timeMs);
      const columns = terms.map((_, index) => `k${index}`);
      const key = terms.map(({ descending }, index) => `k${index}${descending ? ' DESC' : ''}`);
      this.#database.exec(
        `CREATE TABLE index_${lastInsertRowid} (${columns.map((name) => `${name} BLOB NOT NULL`).join(', ')}, id TEXT NOT NULL, document INTEGER NOT NULL, ` +
          `PRIMARY KEY (${key.join(', ')}, id)) STRICT, WITHOUT ROWID`,
      );
      return Number(lastInsertRowid);
    })();
    const index: OpenIndex = this.#open({ number, collection, fields, terms, ready: false, created: timeMs });
    index.filling = this.#fillAll(index);
    await index.filling;
    return describe(index);
  }

  /** Removes what an attempt has left behind that the disk did not let be taken back. */
  #dropUnfinished(collection: number, fields: string): void {
    const left = this.#database
      .prepare<[number, string], number>('SELECT number FROM indexes WHERE collection = ? AND fields = ? AND ready = 0')
      .pluck()
      .all(collection, fields);
    for (const number of left) this.#dropTable(number);
  }

  async #fillAll(index: OpenIndex): Promise<void> {
    const { number, collection } = index;
    try {
      for (let after: string | undefined = ''; after !== undefined;) {
        after = this.#fill(index, after);
        await new Promise((resolve) => setImmediate(resolve));
      }
      this.#database.prepare('UPDATE indexes SET ready = 1 WHERE number = ?').run(number);
    } catch (error) {
      this.#forget(collection, number);
      throw error;
    }
    index.ready = true;
    this.#usable.clear();
  }

  /** Takes back an index that could not be filled. Where the disk does not allow even that, the next start does it. */
  #forget(collection: number, number: number): void {
    this.#byCollection.set(
      collection,
      (this.#byCollection.get(collection) ?? []).filter((other) => other.number !== number),
    );
    this.#usable.clear();
    try {
      this.#dropTable(number);
    } catch {
      // It is marked as not ready.
    }
  }

  /** Removes an index. Returns whether there was one. */
  remove(number: number): boolean {
    for (const [collection, indexes] of this.#byCollection) {
      const rest = indexes.filter((index) => index.number !== number);
      if (rest.length === indexes.length) continue;
      this.#byCollection.set(collection, rest);
      this.#usable.clear();
      this.#dropTable(number);
      return true;
    }
    return false;
  }

  /** Brings the indexes of a collection up to one change. Belongs inside the transaction of the change. */
  update(collection: number, before: Document | undefined, after: Document | undefined, document: number): void {
    for (const { terms, insert, remove } of this.#byCollection.get(collection) ?? []) {
      const from = before && keysOf(before, terms);
      const to = after && keysOf(after, terms);
      if (from && to && from.every((key, position) => key.equals(to[position]!))) continue;
      if (from) remove.run(...from, before!.id);
      if (to) insert.run(...to, after!.id, document);
    }
  }

  #open(info: IndexInfo): OpenIndex {
    const columns = info.terms.map((_, index) => `k${index}`);
    const index = {
      ...info,
      insert: this.#database.prepare(
        `INSERT OR IGNORE INTO index_${info.number} (${columns.join(', ')}, id, document) VALUES (${columns.map(() => '?').join(', ')}, ?, ?)`,
      ),
      remove: this.#database.prepare(
        `DELETE FROM index_${info.number} WHERE ${columns.map((name) => `${name} = ?`).join(' AND ')} AND id = ?`,
      ),
    };
    this.#usable.clear();
    this.#byCollection.set(info.collection, [...(this.#byCollection.get(info.collection) ?? []), index]);
    return index;
  }

  /** Puts the next documents in. Returns the last id, or undefined at the end. */
  #fill({ collection, terms, insert }: OpenIndex, after: string): string | undefined {
    return this.#database.transaction(() => {
      const stored = this.#documents.list(collection, after, FILL_AT_ONCE);
      for (const document of stored) insert.run(...keysOf(readStored(document), terms), document.id, document.number);
      return stored.length < FILL_AT_ONCE ? undefined : stored.at(-1)!.id;
    })();
  }

  #dropTable(number: number): void {
    this.#database.transaction(() => {
      this.#database.prepare('DELETE FROM indexes WHERE number = ?').run(number);
      this.#database.exec(`DROP TABLE IF EXISTS index_${number}`);
    })();
  }
}

function keysOf(document: Document, terms: readonly OrderTerm[]): Buffer[] {
  return terms.map((term) => Buffer.from(indexKey(orderValue(document, term))));
}

function describe({ number, collection, fields, terms, ready, created }: IndexInfo): IndexInfo {
  return { number, collection, fields, terms, ready, created };
}
