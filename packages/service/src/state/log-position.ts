import { createHash } from 'node:crypto';
import type Database from 'better-sqlite3';
import type { LogRecord } from './records.js';

/** Where a store is in its log. */
export interface LogPosition {
  /** The number of batches that were applied. */
  place: number;
  /** The SHA-256 over all records so far, each batch with the hash before it; in hexadecimal digits. */
  hash: string;
  /** Identifies the log. Another log has another. */
  generation: string;
  /** The revision of the log service that holds the entry at this place; 0 in a log of one node. */
  revision: number;
  /** The latest time of a record, in milliseconds since 1970. */
  timeMs: number;
}

/**
 * The version of the way in which hashes are chained. Nodes of several versions compare hashes while they are upgraded one by
 * one, so it stays, whatever formats of records are added.
 */
const CHAIN_FORMAT = 1;

const READ = 'SELECT place, hash, generation, revision, time AS timeMs FROM log';
const WRITE = 'UPDATE log SET place = ?, hash = ?, generation = ?, revision = ?, time = ?';

/** The position in the log, written in the same transaction as the changes of each batch. */
export class LogPositionTable {
  readonly #database: Database.Database;
  readonly #write: Database.Statement<[number, string, string, number, number]>;
  #position: LogPosition;

  constructor(database: Database.Database) {
    this.#database = database;
    this.#write = database.prepare(WRITE);
    this.#position = this.#read();
  }

  get current(): Readonly<LogPosition> {
    return this.#position;
  }

  /** The time of a record, not before that of an earlier one. */
  clamp(timeMs: number): number {
    if (timeMs > this.#position.timeMs) this.#position.timeMs = timeMs;
    return this.#position.timeMs;
  }

  /** Sets the generation of the log, unless it has one. */
  begin(generation: string): void {
    if (this.#position.generation === '') this.#position.generation = generation;
  }

  /** Counts a batch, and writes the position. */
  advance(records: readonly LogRecord[], revision = 0): void {
    let text = `${CHAIN_FORMAT} ${this.#position.hash}`;
    for (const record of records) text += `\n${JSON.stringify(record)}`;
    this.#position.place++;
    this.#position.hash = createHash('sha256').update(text).digest('hex');
    this.#position.revision = revision;
    const { place, hash: chained, generation, timeMs } = this.#position;
    this.#write.run(place, chained, generation, revision, timeMs);
  }

  /** Reads the position on disk again, after a failed transaction. */
  reload(): void {
    this.#position = this.#read();
  }

  #read(): LogPosition {
    return this.#database.prepare<[], LogPosition>(READ).get()!;
  }
}
