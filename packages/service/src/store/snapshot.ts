import Database from 'better-sqlite3';
import { problemError } from '@uproar/protocol';
import { fromRow, type CandidateRow, type StoredContent, type StoredDocument } from './documents.js';
import type { Plan } from './plan.js';

/** A connection for reading whose view of the store stays as it was at {@link begin}. */
export class Snapshot {
  readonly #database: Database.Database;
  readonly #seq: Database.Statement<[], number>;
  readonly #get: Database.Statement<[number, string], StoredDocument>;
  readonly #statements = new Map<string, Database.Statement<unknown[], StoredDocument>>();
  #rows: IterableIterator<CandidateRow> | undefined;
  #begun = 0;
  #movedMs = 0;
  #brokenOff = false;

  constructor(file: string) {
    this.#database = new Database(file, { readonly: true });
    this.#seq = this.#database.prepare<[], number>('SELECT COALESCE(MAX(seq), 0) FROM commits').pluck();
    this.#get = this.#database.prepare(
      'SELECT number, id, version, created, updated, expires, data FROM documents WHERE collection = ? AND id = ?',
    );
  }

  /** How long the view has been held, in milliseconds. */
  get ageMs(): number {
    return performance.now() - this.#begun;
  }

  /** For how long nothing has been read, in milliseconds. */
  get stalledMs(): number {
    return performance.now() - this.#movedMs;
  }

  /** Fixes the view. Returns the seq it shows. */
  begin(): number {
    this.#begun = this.#movedMs = performance.now();
    this.#database.exec('BEGIN');
    return this.#seq.get()!;
  }

  /** @throws {ProblemError} `read-aborted` at the next document, once the view was given up */
  *iterate({ sql, parameters }: Plan): IterableIterator<StoredContent> {
    this.#rows = this.#database
      .prepare<unknown[], CandidateRow>(sql)
      .raw()
      .iterate(...parameters);
    try {
      for (let row = this.#next(); !row.done; row = this.#next()) yield fromRow(row.value);
    } finally {
      this.#rows?.return?.();
      this.#rows = undefined;
    }
  }

  #next(): IteratorResult<CandidateRow> {
    this.#check();
    const row = this.#rows?.next();
    this.#movedMs = performance.now();
    return row!;
  }

  /** Gives the view up although it is being read, and closes the connection. The reader gets an error at the next document. */
  abort(): void {
    this.#brokenOff = true;
    this.#rows?.return?.();
    this.#rows = undefined;
    this.close();
  }

  #check(): void {
    if (!this.#brokenOff) return;
    throw problemError(
      'read-aborted',
      'This read took too long and kept an old state of the store. Read in pages, with limit and after, or read faster.',
    );
  }

  get(collection: number, id: string): StoredDocument | undefined {
    this.#check();
    this.#movedMs = performance.now();
    return this.#get.get(collection, id);
  }

  /** The rows of a statement that reads. */
  *all(sql: string, parameters: readonly unknown[]): Generator<StoredDocument> {
    this.#check();
    let statement = this.#statements.get(sql);
    if (!statement) this.#statements.set(sql, (statement = this.#database.prepare(sql)));
    for (const row of statement.iterate(...parameters)) {
      this.#movedMs = performance.now();
      yield row;
    }
  }

  end(): void {
    if (this.#database.inTransaction) this.#database.exec('COMMIT');
  }

  close(): void {
    this.#database.close();
  }
}
