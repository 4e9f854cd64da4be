import type { JsonValue } from '../json/json.js';
import { compareValues } from '../json/order.js';

/** The number of different values that are kept; twice as many before some are dropped. */
const HELD = 1000;

/**
 * The least or the greatest of values that come and go. It holds the first ones of them in order, so that another is at hand
 * when the very first goes; only when all that it held are gone it has to be filled again.
 */
export class Extremes {
  readonly #sign: 1 | -1;
  readonly #held: { value: JsonValue; count: number }[] = [];
  /** True when no value was let go. */
  #complete = true;

  constructor(which: 'min' | 'max') {
    this.#sign = which === 'min' ? 1 : -1;
  }

  /** The smallest or the largest value; undefined if there is none. */
  get first(): JsonValue | undefined {
    return this.#held[0]?.value;
  }

  /** True when there are values, none of which is held. */
  get exhausted(): boolean {
    return this.#held.length === 0 && !this.#complete;
  }

  add(value: JsonValue): void {
    const { index, found } = this.#find(value);
    if (found) found.count++;
    // Behind the last one held lie others that are not held.
    else if (index < this.#held.length || this.#complete) this.#held.splice(index, 0, { value, count: 1 });
    if (this.#held.length > 2 * HELD) {
      this.#held.length = HELD;
      this.#complete = false;
    }
  }

  remove(value: JsonValue): void {
    const { index, found } = this.#find(value);
    if (found && --found.count === 0) this.#held.splice(index, 1);
  }

  #find(value: JsonValue): { index: number; found: { value: JsonValue; count: number } | undefined } {
    let low = 0;
    let high = this.#held.length;
    while (low < high) {
      const middle = (low + high) >>> 1;
      if (compareValues(this.#held[middle]!.value, value) * this.#sign < 0) low = middle + 1;
      else high = middle;
    }
    const at = this.#held[low];
    return { index: low, found: at && compareValues(at.value, value) === 0 ? at : undefined };
  }
}
