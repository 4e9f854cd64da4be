import type Database from 'better-sqlite3';
import { formatTime, type Author, type JsonObject } from '@uproar/core';
import type { CollectionSchema, SchemaMode } from '@uproar/protocol';
import { formatIdentity } from '../identity/identity.js';
import { compileSchema, type SchemaValidator } from './compile-schema.js';

interface Row {
  collection: string;
  version: number;
  time: number;
  author: string;
  note: string | null;
  mode: SchemaMode;
  schema: string;
}

const COLUMNS = 'collection, version, time, author, note, mode, schema';
const CURRENT = `
  SELECT ${COLUMNS} FROM schemas s
  WHERE version = (SELECT MAX(version) FROM schemas WHERE collection = s.collection) ORDER BY collection`;

/** The schemas of a store's collections, of which the last version of each holds. */
export class Schemas {
  readonly #database: Database.Database;
  readonly #inForce = new Map<string, { validate: SchemaValidator; enforced: boolean }>();
  /** How many writes did not fit a schema and were done all the same, since the start. */
  readonly warned = new Map<string, number>();

  constructor(database: Database.Database) {
    this.#database = database;
    for (const row of database.prepare<[], Row>(CURRENT).all()) this.#take(row.collection, row.mode, row.schema);
  }

  /** The schema of each collection that has one. */
  list(): CollectionSchema[] {
    return this.#database.prepare<[], Row>(CURRENT).all().map(describe);
  }

  /** The newest version, or the given one. Undefined if it does not exist. */
  get(collection: string, version?: number): CollectionSchema | undefined {
    const row = this.#database
      .prepare<[string, number | null, number | null], Row>(
        `SELECT ${COLUMNS} FROM schemas WHERE collection = ? AND (? IS NULL OR version = ?) ORDER BY version DESC LIMIT 1`,
      )
      .get(collection, version ?? null, version ?? null);
    return row && describe(row);
  }

  /**
   * Puts another version in force.
   *
   * @throws {ProblemError} `bad-schema`
   */
  set(collection: string, mode: SchemaMode, schema: JsonObject, author: Author, note?: string): CollectionSchema {
    const text = JSON.stringify(schema);
    compileSchema(schema);
    const version = (this.get(collection)?.version ?? 0) + 1;
    this.#database
      .prepare(`INSERT INTO schemas (${COLUMNS}) VALUES (?, ?, ?, ?, ?, ?, ?)`)
      .run(collection, version, Date.now(), JSON.stringify(author), note ?? null, mode, text);
    this.#take(collection, mode, text);
    return this.get(collection)!;
  }

  /** Removes the schema of a collection with all its versions. Returns whether there was one. */
  remove(collection: string): boolean {
    this.#inForce.delete(collection);
    return this.#database.prepare('DELETE FROM schemas WHERE collection = ?').run(collection).changes > 0;
  }

  /** The schema violations of data that is about to be written; undefined if there are none or no schema applies. */
  readonly validateData = (
    collection: string,
    data: JsonObject,
    sizeBytes: number,
  ): { violations: ReturnType<SchemaValidator>; enforced: boolean } | undefined => {
    const schema = this.#inForce.get(collection);
    if (!schema) return undefined;
    const violations = schema.validate(data, sizeBytes);
    if (violations.length === 0) return undefined;
    if (!schema.enforced) this.warned.set(collection, (this.warned.get(collection) ?? 0) + 1);
    return { violations, enforced: schema.enforced };
  };

  #take(collection: string, mode: SchemaMode, text: string): void {
    if (mode === 'off') this.#inForce.delete(collection);
    else {
      const validate = compileSchema(JSON.parse(text) as JsonObject);
      this.#inForce.set(collection, { validate, enforced: mode === 'enforce' });
    }
  }
}

function describe({ collection, version, time, author, note, mode, schema }: Row): CollectionSchema {
  return {
    collection,
    version,
    mode,
    schema: JSON.parse(schema) as JsonObject,
    time: formatTime(time),
    identity: formatIdentity(JSON.parse(author) as Author),
    ...(note === null ? {} : { note }),
  };
}
