import type Database from 'better-sqlite3';
import type { Author } from '@uproar/core';
import type { RecordOf } from './records.js';

/** Where looking through the idempotency records begins. */
const FROM_THE_FIRST = '["",""]';

/** The newest backups are remembered, so many. */
const MAX_BACKUPS = 1000;

const BEGIN = `
  INSERT OR IGNORE INTO erasures (id, time, author, collection, reason, forgets_ids, documents, changes, seq, place, outcomes_upto)
  VALUES (?, ?, ?, ?, ?, ?, 0, 0, 0, ?, ?)`;
const GET = `
  SELECT author, forgets_ids AS forgetsIds, documents, outcomes_upto AS outcomesUpTo FROM erasures WHERE id = ?`;
const COUNT = `
  UPDATE erasures SET documents = documents + :documents, changes = changes + :changes, seq = MAX(seq, :seq),
    first_seq = MIN(COALESCE(first_seq, :firstSeq), COALESCE(:firstSeq, first_seq)), place = :place,
    outcomes_upto = '${FROM_THE_FIRST}'
  WHERE id = :id`;
const LOOKED = 'UPDATE erasures SET outcomes_upto = ?, place = ? WHERE id = ?';
const ADD_BACKUP =
  'INSERT OR IGNORE INTO backups (id, time, author, seq, size_bytes, sha256) VALUES (?, ?, ?, ?, ?, ?)';
const TRIM_BACKUPS = `
  DELETE FROM backups WHERE time <= (SELECT time FROM backups ORDER BY time DESC LIMIT 1 OFFSET ${MAX_BACKUPS})`;

/** An erasure, as records of it find it. */
export interface OpenErasure {
  author: Author;
  forgetsIds: boolean;
  /** The documents that it has removed so far. */
  documents: number;
  /** Up to which idempotency record it has looked: id space and id; undefined when it has looked at all. */
  outcomesUpTo: [string, string] | undefined;
}

/** What a record has erased. */
export interface ErasedPart {
  documents: number;
  changes: number;
  /** The oldest commit that was erased from. */
  firstSeq: number | null;
  /** The commit that says so; 0 if there is none. */
  seq: number;
}

/** Erasures, and the backups that were made. */
export class ErasureTable {
  readonly #database: Database.Database;

  constructor(database: Database.Database) {
    this.#database = database;
  }

  begin(
    { id, author, collection, reason, forgetsIds }: RecordOf<'erasure-begun'>,
    timeMs: number,
    place: number,
  ): void {
    this.#database
      .prepare(BEGIN)
      .run(id, timeMs, JSON.stringify(author), collection, reason ?? null, forgetsIds ? 1 : 0, place, FROM_THE_FIRST);
  }

  get(id: string): OpenErasure | undefined {
    type Row = { author: string; forgetsIds: number; documents: number; outcomesUpTo: string | null };
    const row = this.#database.prepare<[string], Row>(GET).get(id);
    return (
      row && {
        author: JSON.parse(row.author) as Author,
        forgetsIds: row.forgetsIds === 1,
        documents: row.documents,
        outcomesUpTo: row.outcomesUpTo === null ? undefined : (JSON.parse(row.outcomesUpTo) as [string, string]),
      }
    );
  }

  count(id: string, part: ErasedPart, place: number): void {
    this.#database.prepare(COUNT).run({ id, ...part, place });
  }

  /** Notes up to which idempotency record it has looked; undefined: at all of them. */
  noteLooked(id: string, upTo: [string, string] | undefined, place: number): void {
    this.#database.prepare(LOOKED).run(upTo === undefined ? null : JSON.stringify(upTo), place, id);
  }

  addBackup({ id, author, seq, sizeBytes, sha256 }: RecordOf<'backup-made'>, timeMs: number): void {
    this.#database.prepare(ADD_BACKUP).run(id, timeMs, JSON.stringify(author), seq, sizeBytes, sha256);
    this.#database.prepare(TRIM_BACKUPS).run();
  }
}
