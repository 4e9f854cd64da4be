import type { DocumentChange } from '../write/commit.js';
import type { Document } from '../document/document.js';
import type { Membership } from './view-state.js';

/**
 * The first documents of a query with a limit, and some more behind them. It follows changes, and reports when so many
 * documents have left that it must be filled again.
 */
export class Window {
  readonly limit: number;
  readonly #reserve: number;
  readonly #compare: (a: Document, b: Document) => number;
  readonly #belongs: Membership;
  #held: Document[] = [];
  /** True if no further documents match. */
  #complete = true;

  /**
   * @param limit the most documents shown
   * @param compare the order; never 0 for different ids
   */
  constructor(limit: number, compare: (a: Document, b: Document) => number, belongs: Membership) {
    this.limit = limit;
    this.#reserve = Math.max(10, Math.min(200, limit));
    this.#compare = compare;
    this.#belongs = belongs;
  }

  /** How many documents it is filled with. */
  get wanted(): number {
    return this.limit + this.#reserve;
  }

  /** The documents shown, in order. */
  get documents(): Document[] {
    return this.#held.slice(0, this.limit);
  }

  /** True if the limit cuts the result. */
  get more(): boolean {
    return !this.#complete || this.#held.length > this.limit;
  }

  /**
   * Fills it.
   *
   * @param documents the first of the query, in order
   * @param complete true when they are all
   */
  fill(documents: Document[], complete: boolean): void {
    this.#held = documents;
    this.#complete = complete;
  }

  /** Applies changes. Returns false if too few documents are left; then it must be filled again. */
  follow(changes: readonly DocumentChange[]): boolean {
    const held = this.#held;
    for (const { before, after } of changes) {
      if (before) {
        const { index, found } = this.#find(before);
        if (found) held.splice(index, 1);
      }
      if (!after || !this.#belongs(after)) continue;
      const { index } = this.#find(after);
      // Behind the last one held lie others that are not held; only what sorts before that has a known place.
      if (index < held.length || this.#complete) held.splice(index, 0, after);
    }
    if (held.length > this.limit + 2 * this.#reserve) {
      held.length = this.wanted;
      this.#complete = false;
    }
    return this.#complete || held.length > this.limit;
  }

  #find(document: Document): { index: number; found: boolean } {
    const held = this.#held;
    let low = 0;
    let high = held.length;
    while (low < high) {
      const middle = (low + high) >>> 1;
      if (this.#compare(held[middle]!, document) < 0) low = middle + 1;
      else high = middle;
    }
    return { index: low, found: held[low]?.id === document.id };
  }
}
