import type Database from 'better-sqlite3';
import type { JsonObject } from '@uproar/core';
import { compileSchema, type SchemaValidator } from './compile-schema.js';
import { refusalOf } from './refuse.js';
import type { Refused, SchemaViolation } from './outcomes.js';
import type { RecordOf } from './records.js';

interface Row {
  collection: string;
  mode: 'off' | 'warn' | 'enforce';
  schema: string;
}

const INSERT = `
  INSERT INTO schemas (collection, version, time, author, note, mode, schema) VALUES (?, ?, ?, ?, ?, ?, ?)`;
const DELETE = 'DELETE FROM schemas WHERE collection = ?';
const LAST_VERSION = 'SELECT COALESCE(MAX(version), 0) FROM schemas WHERE collection = ?';
const CURRENT = `
  SELECT collection, mode, schema FROM schemas s
  WHERE version = (SELECT MAX(version) FROM schemas WHERE collection = s.collection) ORDER BY collection`;

/** The schemas that commits are evaluated under: of each collection the last version. */
export class SchemaTable {
  readonly #database: Database.Database;
  readonly #inForce = new Map<string, { validate: SchemaValidator; enforced: boolean }>();

  constructor(database: Database.Database) {
    this.#database = database;
    this.reload();
  }

  /** Puts another version in force. */
  set(record: RecordOf<'schema'>, timeMs: number): { version: number } | Refused {
    const { collection, mode, schema, author, note } = record;
    return refusalOf(() => {
      const validate = compileSchema(schema);
      const version = this.#database.prepare<[string], number>(LAST_VERSION).pluck().get(collection)! + 1;
      this.#database
        .prepare(INSERT)
        .run(collection, version, timeMs, JSON.stringify(author), note ?? null, mode, JSON.stringify(schema));
      this.#take(collection, mode, validate);
      return { version };
    });
  }

  /** Removes the schema of a collection with all its versions. Returns whether there was one. */
  remove(collection: string): boolean {
    this.#inForce.delete(collection);
    return this.#database.prepare(DELETE).run(collection).changes > 0;
  }

  /** The violations of data that is about to be written; undefined if there are none or no schema applies. */
  validate(
    collection: string,
    data: JsonObject,
    sizeBytes: number,
  ): { violations: SchemaViolation[]; enforced: boolean } | undefined {
    const schema = this.#inForce.get(collection);
    const violations = schema?.validate(data, sizeBytes) ?? [];
    return violations.length === 0 ? undefined : { violations, enforced: schema!.enforced };
  }

  /** Reads the state on disk again, after a failed transaction. */
  reload(): void {
    this.#inForce.clear();
    for (const { collection, mode, schema } of this.#database.prepare<[], Row>(CURRENT).all()) {
      this.#take(collection, mode, mode === 'off' ? () => [] : compileSchema(JSON.parse(schema) as JsonObject));
    }
  }

  #take(collection: string, mode: Row['mode'], validate: SchemaValidator): void {
    if (mode === 'off') this.#inForce.delete(collection);
    else this.#inForce.set(collection, { validate, enforced: mode === 'enforce' });
  }
}
