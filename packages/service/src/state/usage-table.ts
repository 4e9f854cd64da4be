import type Database from 'better-sqlite3';
import type { CollectionTable } from './collection-table.js';
import type { RecordOf, UsageRow } from './records.js';

const DAY_MS = 86_400_000;

/** Stands for the identities that a day has no rows left for. */
export const OTHERS = 'others';

const LAST_DAY = 'SELECT day, rows FROM usage_days ORDER BY day DESC LIMIT 1';
const EXISTS = 'SELECT 1 FROM usage WHERE day = ? AND identity = ? AND collection = ?';
const ADD = `
  INSERT INTO usage (day, identity, collection, requests, reads, examined, writes, deliveries, sent_bytes)
  VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
  ON CONFLICT DO UPDATE SET
    requests = requests + excluded.requests, reads = reads + excluded.reads, examined = examined + excluded.examined,
    writes = writes + excluded.writes, deliveries = deliveries + excluded.deliveries,
    sent_bytes = sent_bytes + excluded.sent_bytes`;
const SET_ROWS = `
  INSERT INTO usage_days (day, rows) VALUES (?, ?) ON CONFLICT (day) DO UPDATE SET rows = excluded.rows`;
const NOTE_STORED = 'INSERT INTO stored_by_day (day, collection, documents, size_bytes) VALUES (?, ?, ?, ?)';
const FIRST_DAY = 'SELECT MIN(day) FROM usage_days';
const FORGET = [
  'DELETE FROM usage WHERE day = ?',
  'DELETE FROM stored_by_day WHERE day = ?',
  'DELETE FROM usage_days WHERE day = ?',
];

/** What each identity has used of each collection, and what each collection held, by day. */
export class UsageTable {
  readonly #database: Database.Database;
  readonly #collections: CollectionTable;
  #last: { day: number; rows: number } | undefined;

  constructor(database: Database.Database, collections: CollectionTable) {
    this.#database = database;
    this.#collections = collections;
    this.reload();
  }

  /** Adds what was used. The first record of a day also notes what was stored on the last day before, and removes an old day. */
  add({ rows, maxRows, keptDays }: RecordOf<'usage'>, timeMs: number): void {
    const day = Math.floor(timeMs / DAY_MS);
    if (day !== this.#last?.day) {
      if (this.#last) this.#noteStored(this.#last.day);
      this.#last = { day, rows: 0 };
    }
    for (const row of rows) this.#add(day, row, maxRows);
    this.#database.prepare(SET_ROWS).run(day, this.#last.rows);
    this.#forget(day - keptDays);
  }

  /** Reads the state on disk again, after a failed transaction. */
  reload(): void {
    this.#last = this.#database.prepare<[], { day: number; rows: number }>(LAST_DAY).get();
  }

  #add(day: number, [identity, collection, ...counts]: UsageRow, maxRows: number): void {
    const add = this.#database.prepare(ADD);
    if (this.#has(day, identity, collection)) add.run(day, identity, collection, ...counts);
    else if (this.#last!.rows < maxRows) {
      this.#last!.rows++;
      add.run(day, identity, collection, ...counts);
    } else add.run(day, OTHERS, '', ...counts);
  }

  #has(day: number, identity: string, collection: string): boolean {
    return this.#database.prepare(EXISTS).get(day, identity, collection) !== undefined;
  }

  #noteStored(day: number): void {
    const note = this.#database.prepare(NOTE_STORED);
    for (const { name, documents, sizeBytes } of this.#collections.list()) note.run(day, name, documents, sizeBytes);
  }

  /** Removes one of the days up to `day`, so that a record never takes long. */
  #forget(day: number): void {
    const first = this.#database.prepare<[], number | null>(FIRST_DAY).pluck().get() ?? Infinity;
    if (first > day) return;
    for (const sql of FORGET) this.#database.prepare(sql).run(first);
  }
}
