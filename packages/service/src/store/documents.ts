import type Database from 'better-sqlite3';
import { DamagedTextError } from './storage-health.js';
import { formatTime, type Document, type JsonObject } from '@uproar/core';

/** A document as it lies in the store: times in milliseconds since 1970, data as JSON text. */
export interface StoredDocument {
  /** Its row, by which indexes point to it. */
  number: number;
  id: string;
  version: number;
  created: number;
  updated: number;
  data: string;
}

const COLUMNS = 'number, id, version, created, updated, data';
const GET = `SELECT ${COLUMNS} FROM documents WHERE collection = ? AND id = ?`;
const LIST = `SELECT ${COLUMNS} FROM documents WHERE collection = ? AND id > ? ORDER BY id LIMIT ?`;
const INSERT = `
  INSERT INTO documents (collection, id, version, created, updated, data) VALUES (?, ?, ?, ?, ?, ?)`;
const UPDATE = 'UPDATE documents SET version = ?, updated = ?, data = ? WHERE collection = ? AND id = ?';
const DELETE = 'DELETE FROM documents WHERE collection = ? AND id = ?';

/** The table of documents, by the number of their collection and their id. */
export class Documents {
  readonly #get: Database.Statement<[number, string], StoredDocument>;
  readonly #list: Database.Statement<[number, string, number], StoredDocument>;
  readonly #insert: Database.Statement<[number, string, number, number, number, string]>;
  readonly #update: Database.Statement<[number, number, string, number, string]>;
  readonly #delete: Database.Statement<[number, string]>;

  constructor(database: Database.Database) {
    this.#get = database.prepare(GET);
    this.#list = database.prepare(LIST);
    this.#insert = database.prepare(INSERT);
    this.#update = database.prepare(UPDATE);
    this.#delete = database.prepare(DELETE);
  }

  get(collection: number, id: string): StoredDocument | undefined {
    return this.#get.get(collection, id);
  }

  /** Up to `limit` documents with ids greater than `after`, in the order of ids. */
  list(collection: number, after: string, limit: number): StoredDocument[] {
    return this.#list.all(collection, after, limit);
  }

  /** Adds a document. Returns its number. */
  insert(collection: number, document: Omit<StoredDocument, 'number'>): number {
    const { lastInsertRowid } = this.#insert.run(
      collection,
      document.id,
      document.version,
      document.created,
      document.updated,
      document.data,
    );
    return Number(lastInsertRowid);
  }

  update(collection: number, document: Omit<StoredDocument, 'number'>): void {
    this.#update.run(document.version, document.updated, document.data, collection, document.id);
  }

  delete(collection: number, id: string): void {
    this.#delete.run(collection, id);
  }
}

/** A stored document in its public form. */
export function readStored(stored: Omit<StoredDocument, 'number'>): Document {
  return {
    id: stored.id,
    version: stored.version,
    created: formatTime(stored.created),
    updated: formatTime(stored.updated),
    data: parseStored(stored.data),
  };
}

/**
 * The data of a stored document.
 *
 * @throws {DamagedTextError} when it is not the JSON that was written
 */
export function parseStored(data: string): JsonObject {
  try {
    return JSON.parse(data) as JsonObject;
  } catch {
    throw new DamagedTextError('A stored document is not JSON any more.');
  }
}

/** The JSON text of a stored document, without parsing its data. */
export function stringifyStored(stored: StoredDocument): string {
  return (
    `{"id":${JSON.stringify(stored.id)},"version":${stored.version},"created":"${formatTime(stored.created)}",` +
    `"updated":"${formatTime(stored.updated)}","data":${stored.data}}`
  );
}
