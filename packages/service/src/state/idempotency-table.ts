import type Database from 'better-sqlite3';
import type { Refusal } from '@uproar/core';
import type { Warning } from './outcomes.js';

/**
 * The result of a commit the first time: applied or refused. Documents are stored only if they do not follow from
 * the writes, as with generated ids.
 */
export type StoredOutcome =
  | { seq: number; documents?: { collection: string; id: string; version: number }[]; warnings?: Warning[] }
  | { refused: Refusal; write?: number; read?: number };

const GET = 'SELECT digest, outcome FROM outcomes WHERE author = ? AND id = ?';
const INSERT = 'INSERT INTO outcomes (author, id, time, digest, outcome) VALUES (?, ?, ?, ?, ?)';
const EXPIRE = `
  DELETE FROM outcomes WHERE (author, id) IN
    (SELECT author, id FROM outcomes WHERE time < ? ORDER BY time, author, id LIMIT ?)`;

/** The results of commits with an id, so that each commit is applied once, even if it is sent several times. */
export class IdempotencyTable {
  readonly #get: Database.Statement<[string, string], { digest: string; outcome: string }>;
  readonly #insert: Database.Statement<[string, string, number, string, string]>;
  readonly #expire: Database.Statement<[number, number]>;

  constructor(database: Database.Database) {
    this.#get = database.prepare(GET);
    this.#insert = database.prepare(INSERT);
    this.#expire = database.prepare(EXPIRE);
  }

  /** The outcome of the commit with an id in an id space, and the digest of its content. */
  get(space: string, id: string): { digest: string; outcome: StoredOutcome } | undefined {
    const row = this.#get.get(space, id);
    return row && { digest: row.digest, outcome: JSON.parse(row.outcome) as StoredOutcome };
  }

  add(space: string, id: string, timeMs: number, digest: string, outcome: StoredOutcome): void {
    this.#insert.run(space, id, timeMs, digest, JSON.stringify(outcome));
  }

  /** Deletes records older than a time, up to `limit`. Returns whether there may be more. */
  expire(beforeMs: number, limit: number): boolean {
    return this.#expire.run(beforeMs, limit).changes === limit;
  }
}
