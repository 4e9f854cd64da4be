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
/** Stands for the digest of a commit whose content was erased: it is not compared any more. */
export const ERASED_DIGEST = '*';

const NEXT = 'SELECT author, id, outcome FROM outcomes WHERE (author, id) > (?, ?) ORDER BY author, id LIMIT ?';
const EMPTY = `UPDATE outcomes SET digest = '${ERASED_DIGEST}', outcome = ? WHERE author = ? AND id = ?`;
const DELETE = 'DELETE FROM outcomes WHERE author = ? AND id = ?';
const EXPIRE = `
  DELETE FROM outcomes WHERE (author, id) IN
    (SELECT author, id FROM outcomes WHERE time < ? ORDER BY time, author, id LIMIT ?)`;

/** The results of commits with an id, so that each commit is applied once, even if it is sent several times. */
export class IdempotencyTable {
  readonly #database: Database.Database;
  readonly #get: Database.Statement<[string, string], { digest: string; outcome: string }>;
  readonly #insert: Database.Statement<[string, string, number, string, string]>;
  readonly #expire: Database.Statement<[number, number]>;

  constructor(database: Database.Database) {
    this.#database = database;
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

  /**
   * Empties records of applied commits that `isErased` names, and deletes those of refused commits to a collection, which
   * quote what was refused. It looks at `limit` of them.
   *
   * @param firstSeq of commits before it, it is not known what they wrote
   * @param after the id space and id of the record looked at last
   * @returns the one looked at last now; undefined when none is left
   */
  erase(
    collection: string,
    isErased: (seq: number) => boolean,
    firstSeq: number,
    after: [string, string],
    limit: number,
  ): [string, string] | undefined {
    type Row = { author: string; id: string; outcome: string };
    const rows = this.#database.prepare<[string, string, number], Row>(NEXT).all(...after, limit);
    for (const { author, id, outcome } of rows) {
      const stored = JSON.parse(outcome) as StoredOutcome;
      if ('refused' in stored) {
        if (stored.refused.collection === collection) this.#database.prepare(DELETE).run(author, id);
      } else if (isErased(stored.seq)) {
        this.#database.prepare(EMPTY).run(JSON.stringify({ seq: stored.seq, documents: [] }), author, id);
      } else if (stored.seq < firstSeq) this.#database.prepare(EMPTY).run(outcome, author, id);
    }
    const last = rows.at(-1);
    return last && rows.length === limit ? [last.author, last.id] : undefined;
  }

  /** Deletes records older than a time, up to `limit`. Returns whether there may be more. */
  expire(beforeMs: number, limit: number): boolean {
    return this.#expire.run(beforeMs, limit).changes === limit;
  }
}
