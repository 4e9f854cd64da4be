import type Database from 'better-sqlite3';

/** So far ahead the time of ids is written down while the clock is behind them. */
const AHEAD_MS = 3_600_000;

/** The number of commits whose times are read when the store is opened. */
const COMMITS_LOOKED_AT = 1000;

const READ = "SELECT CAST(value AS INTEGER) FROM store WHERE name = 'last-id-ms'";
const WRITE = `
  INSERT INTO store (name, value) VALUES ('last-id-ms', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`;
const LAST_TIMES = `SELECT MAX(time) FROM (SELECT time FROM commits ORDER BY seq DESC LIMIT ${COMMITS_LOOKED_AT})`;

/**
 * The clock of generated ids. It remembers the latest time that ids were made of, so that later ids sort behind earlier ones
 * although the clock of the machine has gone back over a restart.
 */
export class IdClock {
  readonly #database: Database.Database;
  /** Ids are of a later time than this, in milliseconds since 1970. */
  readonly lastMs: number;
  #latest: number;
  #written: number;

  constructor(database: Database.Database) {
    this.#database = database;
    this.#written = database.prepare<[], number>(READ).pluck().get() ?? -1;
    this.lastMs = Math.max(this.#written, database.prepare<[], number | null>(LAST_TIMES).pluck().get() ?? -1);
    this.#latest = this.lastMs;
  }

  /** The time for the next id. */
  now(): number {
    const now = Date.now();
    if (now >= this.#latest) this.#latest = now;
    else if (this.#written <= this.#latest) this.#write(this.#latest + AHEAD_MS);
    return now;
  }

  close(): void {
    if (this.#latest > this.#written) this.#write(this.#latest);
  }

  #write(timeMs: number): void {
    this.#database.prepare<[string]>(WRITE).run(String(timeMs));
    this.#written = timeMs;
  }
}
