import type { Log } from '../log/log.js';
import type { Reads } from './reads.js';

/** So far ahead the time of ids is written down while the clock is behind them. */
const AHEAD_MS = 3_600_000;

/** The number of commits whose times are read when the store is opened. */
const COMMITS_LOOKED_AT = 1000;

const READ = "SELECT CAST(value AS INTEGER) FROM local WHERE name = 'last-id-ms'";
const WRITE = `
  INSERT INTO local (name, value) VALUES ('last-id-ms', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`;
const LAST_TIMES = `SELECT MAX(time) FROM (SELECT time FROM commits ORDER BY seq DESC LIMIT ${COMMITS_LOOKED_AT})`;

/**
 * The clock of generated ids. It remembers the latest time that ids were made of, so that later ids sort behind earlier ones
 * although the clock of the machine has gone back over a restart.
 */
export class IdClock {
  readonly #log: Log;
  /** Ids are of a later time than this, in milliseconds since 1970. */
  readonly lastMs: number;
  #latest: number;
  #written: number;

  constructor(reads: Reads, log: Log) {
    this.#log = log;
    this.#written = reads.values<[], number>(READ).get() ?? -1;
    this.lastMs = Math.max(this.#written, reads.values<[], number | null>(LAST_TIMES).get() ?? -1);
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
    this.#written = timeMs;
    // A full disk must not keep ids from being generated, or the store from being closed.
    this.#log.writeLocally((database) => database.prepare(WRITE).run(String(timeMs))).catch(() => undefined);
  }
}
