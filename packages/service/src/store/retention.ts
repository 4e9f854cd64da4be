import type { Log } from '../log/log.js';
import type { Journal } from './journal.js';
import type { Reads } from './reads.js';

/** How much of the journal is kept. */
export interface RetentionLimits {
  /** Commits older than this are cut, in milliseconds. */
  maxAgeMs?: number | undefined;
  /** Older commits are cut while the documents in the journal take more than this. */
  maxSizeBytes?: number | undefined;
  /**
   * What hooks have not delivered yet is kept for this time longer, in milliseconds, and while the journal takes at most
   * twice its size; by default a day.
   */
  holdMs?: number | undefined;
}

const DEFAULT_HOLD_MS = 86_400_000;

/** The last seq that no hook needs any more; null if there are no hooks. */
const NEEDED = `
  SELECT MIN(MIN(hooks.seq), COALESCE(MIN(json_extract(document.value, '$[1]')) - 1, MIN(hooks.seq)))
  FROM hooks LEFT JOIN json_each(hooks.open) AS document`;

/** The number of commits removed, and of changes swept, in one transaction, so that nothing waits long. */
const COMMITS_AT_ONCE = 200;
const CHANGES_AT_ONCE = 1000;

const OLDEST = 'SELECT seq FROM commits WHERE seq < ? AND time < ? ORDER BY seq LIMIT 1 OFFSET ?';

/**
 * Removes the oldest part of the journal step by step. Commits are removed first, which hides them; their changes are
 * swept afterwards, so that a step stays small however large a commit was. The newest commit always stays.
 */
export class JournalRetention {
  readonly #reads: Reads;
  readonly #log: Log;
  readonly #journal: Journal;
  #limits: RetentionLimits;

  constructor(reads: Reads, log: Log, journal: Journal, limits: RetentionLimits) {
    this.#reads = reads;
    this.#log = log;
    this.#journal = journal;
    this.#limits = limits;
  }

  /** From now on keeps this much. */
  keep(limits: RetentionLimits): void {
    this.#limits = limits;
  }

  /** Does one step. Resolves with true when there may be more to do. */
  async step(nowMs: number): Promise<boolean> {
    if (this.#journal.hasUnswept) {
      const { more } = await this.#log.propose({ kind: 'journal-swept', timeMs: nowMs, changes: CHANGES_AT_ONCE });
      return more;
    }
    const { first, last } = this.#journal.bounds();
    if (last === 0 || first >= last) return false;
    let upTo = Math.max(this.#tooOld(nowMs, last), this.#tooMuch(first, last));
    const needed = this.#reads.values<[], number | null>(NEEDED).get() ?? Infinity;
    if (upTo > needed) {
      const holdMs = this.#limits.holdMs ?? DEFAULT_HOLD_MS;
      upTo = Math.max(needed, this.#tooOld(nowMs - holdMs, last), this.#tooMuch(first, last, 2));
    }
    if (upTo < first) return false;
    await this.#log.propose({ kind: 'journal-truncated', timeMs: nowMs, seq: upTo });
    return true;
  }

  #tooOld(nowMs: number, last: number): number {
    if (this.#limits.maxAgeMs === undefined) return 0;
    const before = nowMs - this.#limits.maxAgeMs;
    const find = this.#reads.values<[number, number, number], number>(OLDEST);
    for (const offset of [COMMITS_AT_ONCE - 1, 0]) {
      const seq = find.get(last, before, offset);
      if (seq !== undefined) return seq;
    }
    return 0;
  }

  /** Up to where the oldest commits are too much; not further than about as many changes as are swept out at once. */
  #tooMuch(first: number, last: number, times = 1): number {
    const { maxSizeBytes } = this.#limits;
    if (maxSizeBytes === undefined) return 0;
    const excess = this.#journal.sizeBytes - times * maxSizeBytes;
    if (excess <= 0) return 0;
    const farthest = this.#journal.reachingOver(first, CHANGES_AT_ONCE);
    // The first seq up to which cutting is enough, or as far as one step goes.
    let [low, upTo] = [first, Math.min(first + COMMITS_AT_ONCE - 1, farthest, last - 1)];
    while (low < upTo) {
      const middle = Math.floor((low + upTo) / 2);
      if (this.#journal.sizeUpTo(middle) >= excess) upTo = middle;
      else low = middle + 1;
    }
    return upTo;
  }
}
