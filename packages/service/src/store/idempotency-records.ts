import type Database from 'better-sqlite3';
import type { Refusal } from '@uproar/core';
import type { Warning } from './commit-log.js';

/**
 * The result of a commit the first time: applied or refused. Documents are stored only if they do not follow from
 * the writes, as with generated ids.
 */
export type Outcome =
  | { seq: number; documents?: { collection: string; id: string; version: number }[]; warnings?: Warning[] }
  | { refused: Refusal; write?: number; read?: number };

/** How long the outcome of a commit with an id is remembered, in milliseconds. */
export const REMEMBERED_MS = 24 * 3_600_000;

/** Records deleted in one transaction. */
const FORGOTTEN_AT_ONCE = 500;

const FORGET = `
  DELETE FROM outcomes WHERE (author, id) IN (SELECT author, id FROM outcomes WHERE time < ? ORDER BY time LIMIT ?)`;

/** The results of commits with an id, so that each commit is applied once, even if it is sent several times. */
export class IdempotencyRecords {
  readonly #get: Database.Statement<[string, string], { digest: string; outcome: string }>;
  readonly #insert: Database.Statement<[string, string, number, string, string]>;
  readonly #forget: Database.Statement<[number, number]>;

  constructor(database: Database.Database) {
    this.#get = database.prepare('SELECT digest, outcome FROM outcomes WHERE author = ? AND id = ?');
    this.#insert = database.prepare('INSERT INTO outcomes (author, id, time, digest, outcome) VALUES (?, ?, ?, ?, ?)');
    this.#forget = database.prepare(FORGET);
  }

  /** The outcome of the commit with an id in an id space, and the digest of its content. */
  get(space: string, id: string): { digest: string; outcome: Outcome } | undefined {
    const row = this.#get.get(space, id);
    return row && { digest: row.digest, outcome: JSON.parse(row.outcome) as Outcome };
  }

  /** Belongs inside the transaction of the commit. */
  add(space: string, id: string, timeMs: number, digest: string, outcome: Outcome): void {
    this.#insert.run(space, id, timeMs, digest, JSON.stringify(outcome));
  }

  /** Deletes some expired records. Returns true when there may be more. */
  forgetOld(nowMs: number): boolean {
    return this.#forget.run(nowMs - REMEMBERED_MS, FORGOTTEN_AT_ONCE).changes === FORGOTTEN_AT_ONCE;
  }
}
