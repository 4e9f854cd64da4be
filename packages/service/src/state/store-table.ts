import type Database from 'better-sqlite3';
import { DEFAULT_DOCUMENT_LIMITS, type DocumentLimits } from '@uproar/core';
import type { RecordOf } from './records.js';

/** The limits that commits are evaluated with, in bytes and levels. */
export interface CommitLimits extends DocumentLimits {
  /** The bytes of the documents that one commit leaves, each counted for every write to it. */
  resultBytes: number;
}

/** 64 MiB for the documents of one commit. */
export const DEFAULT_COMMIT_RESULT_BYTES = 64 * 1024 * 1024;

const GET = 'SELECT value FROM store WHERE name = ?';
const SET = 'INSERT INTO store (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value';
const ADD = 'INSERT INTO store (name, value) VALUES (?, ?) ON CONFLICT (name) DO NOTHING';

/** Single values of the state: the id of the store, its secret for links, and the limits of commits. */
export class StoreTable {
  readonly #database: Database.Database;
  #current!: CommitLimits;

  constructor(database: Database.Database) {
    this.#database = database;
    this.reload();
  }

  get current(): CommitLimits {
    return this.#current;
  }

  /** Gives the store an id and a secret for links, unless it has them. Returns the id. */
  begin({ id, linkSecret }: RecordOf<'store'>): string {
    this.#database.prepare(ADD).run('id', id);
    this.#database.prepare(ADD).run('link-secret', linkSecret);
    return this.#get('id')!;
  }

  set({ sizeBytes, depth, resultBytes }: RecordOf<'limits'>): void {
    this.#current = { sizeBytes, depth, resultBytes };
    this.#database.prepare(SET).run('limits', JSON.stringify(this.#current));
  }

  /** Reads the limits on disk again, after a failed transaction. */
  reload(): void {
    const text = this.#get('limits');
    this.#current =
      text === undefined
        ? { ...DEFAULT_DOCUMENT_LIMITS, resultBytes: DEFAULT_COMMIT_RESULT_BYTES }
        : (JSON.parse(text) as CommitLimits);
  }

  #get(name: string): string | undefined {
    return this.#database.prepare<[string], string>(GET).pluck().get(name);
  }
}
