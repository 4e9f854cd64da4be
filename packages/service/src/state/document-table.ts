import type Database from 'better-sqlite3';
import type { StoredDocument } from './stored-document.js';

const GET = `
  SELECT number, id, version, created, updated, expires, data FROM documents WHERE collection = ? AND id = ?`;
const INSERT = `
  INSERT INTO documents (collection, id, version, created, updated, expires, data) VALUES (?, ?, ?, ?, ?, ?, ?)`;
const UPDATE = 'UPDATE documents SET version = ?, updated = ?, expires = ?, data = ? WHERE collection = ? AND id = ?';
const DELETE = 'DELETE FROM documents WHERE collection = ? AND id = ?';

/** The table of documents, by the number of their collection and their id. */
export class DocumentTable {
  readonly #get: Database.Statement<[number, string], StoredDocument>;
  readonly #insert: Database.Statement<[number, string, number, number, number, number | null, string]>;
  readonly #update: Database.Statement<[number, number, number | null, string, number, string]>;
  readonly #delete: Database.Statement<[number, string]>;

  constructor(database: Database.Database) {
    this.#get = database.prepare(GET);
    this.#insert = database.prepare(INSERT);
    this.#update = database.prepare(UPDATE);
    this.#delete = database.prepare(DELETE);
  }

  get(collection: number, id: string): StoredDocument | undefined {
    return this.#get.get(collection, id);
  }

  /** Adds a document. Returns its number. */
  insert(collection: number, { id, version, created, updated, expires, data }: Omit<StoredDocument, 'number'>): number {
    return Number(this.#insert.run(collection, id, version, created, updated, expires, data).lastInsertRowid);
  }

  update(collection: number, { id, version, updated, expires, data }: Omit<StoredDocument, 'number'>): void {
    this.#update.run(version, updated, expires, data, collection, id);
  }

  delete(collection: number, id: string): void {
    this.#delete.run(collection, id);
  }
}
