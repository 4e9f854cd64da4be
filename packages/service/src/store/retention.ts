import type Database from 'better-sqlite3';
import type { Journal } from './journal.js';

/** How much of the journal is kept. */
export interface RetentionLimits {
  /** Commits older than this are cut, in milliseconds. */
  maxAgeMs?: number | undefined;
  /** Older commits are cut while the documents in the journal take more than this. */
  maxSizeBytes?: number | undefined;
}

/** Commits cut in one transaction, so that nobody waits long. */
const CUT_AT_ONCE = 200;

/** How often the journal is looked at, in milliseconds. */
const INTERVAL_MS = 30_000;

const OLDEST = 'SELECT seq FROM commits WHERE seq < ? AND time < ? ORDER BY seq LIMIT 1 OFFSET ?';
const SIZE = 'SELECT COALESCE(SUM(LENGTH(before)), 0) + COALESCE(SUM(LENGTH(after)), 0) FROM changes';
const SIZE_TO = 'SELECT COALESCE(SUM(LENGTH(before)), 0) + COALESCE(SUM(LENGTH(after)), 0) FROM changes WHERE seq <= ?';
const CUT_CHANGES = 'DELETE FROM changes WHERE seq <= ?';
const CUT_COMMITS = 'DELETE FROM commits WHERE seq <= ?';

/**
 * Cuts the old end of the journal, in small steps. The newest commit always stays.
 *
 * @returns stops it
 */
export function keepJournalWithin(
  database: Database.Database,
  journal: Journal,
  limits: RetentionLimits,
  now: () => number,
): () => void {
  if (limits.maxAgeMs === undefined && limits.maxSizeBytes === undefined) return () => undefined;
  const cutter = new JournalCutter(database, journal, limits);
  let pause: NodeJS.Immediate | undefined;
  const turn = () => {
    if (cutter.step(now())) pause = setImmediate(turn);
  };
  const timer = setInterval(turn, INTERVAL_MS).unref();
  turn();
  return () => {
    clearInterval(timer);
    if (pause) clearImmediate(pause);
  };
}

/** Decides what is to be cut, and cuts it step by step. */
export class JournalCutter {
  readonly #database: Database.Database;
  readonly #journal: Journal;
  readonly #limits: RetentionLimits;

  constructor(database: Database.Database, journal: Journal, limits: RetentionLimits) {
    this.#database = database;
    this.#journal = journal;
    this.#limits = limits;
  }

  /** Cuts up to two hundred commits. Returns true when there may be more to cut. */
  step(nowMs: number): boolean {
    const { first, last } = this.#journal.bounds();
    if (last === 0 || first >= last) return false;
    const upTo = Math.max(this.#tooOld(nowMs, last), this.#tooMuch(first, last));
    if (upTo < first) return false;
    this.#database.transaction(() => {
      this.#database.prepare(CUT_CHANGES).run(upTo);
      this.#database.prepare(CUT_COMMITS).run(upTo);
    })();
    return true;
  }

  #tooOld(nowMs: number, last: number): number {
    if (this.#limits.maxAgeMs === undefined) return 0;
    const before = nowMs - this.#limits.maxAgeMs;
    const find = this.#database.prepare<[number, number, number], number>(OLDEST).pluck();
    for (const offset of [CUT_AT_ONCE - 1, 0]) {
      const seq = find.get(last, before, offset);
      if (seq !== undefined) return seq;
    }
    return 0;
  }

  #tooMuch(first: number, last: number): number {
    const { maxSizeBytes } = this.#limits;
    if (maxSizeBytes === undefined) return 0;
    const size = this.#database.prepare<[], number>(SIZE).pluck().get()!;
    if (size <= maxSizeBytes) return 0;
    const sizeTo = this.#database.prepare<[number], number>(SIZE_TO).pluck();
    // The first seq up to which cutting is enough, or as far as one step goes.
    let [low, upTo] = [first, Math.min(first + CUT_AT_ONCE - 1, last - 1)];
    while (low < upTo) {
      const middle = Math.floor((low + upTo) / 2);
      if (size - sizeTo.get(middle)! <= maxSizeBytes) upTo = middle;
      else low = middle + 1;
    }
    return upTo;
  }
}
