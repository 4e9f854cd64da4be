import type { JsonObject, JsonValue } from '@uproar/core';

/** A seeded source of random test data: the same seed gives the same data. */
export class Random {
  #state: number;
  constructor(readonly seed: number) {
    this.#state = (seed ^ 0x9e3779b9) >>> 0;
  }

  /** A number from 0 up to, but not, 1 (the generator mulberry32). */
  next(): number {
    this.#state = (this.#state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(this.#state ^ (this.#state >>> 15), this.#state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 2 ** 32;
  }

  /** A whole number from `low` to `high`, both included. */
  integer(low: number, high: number): number {
    return low + Math.floor(this.next() * (high - low + 1));
  }

  chance(share: number): boolean {
    return this.next() < share;
  }

  pick<Item>(items: readonly Item[]): Item {
    return items[this.integer(0, items.length - 1)]!;
  }

  /** The items in another order. */
  shuffle<Item>(items: readonly Item[]): Item[] {
    const rest = [...items];
    return items.map(() => rest.splice(this.integer(0, rest.length - 1), 1)[0]!);
  }

  /** Any JSON value, small, with names and texts that are awkward on purpose. */
  value(depth = 3): JsonValue {
    const kind = this.integer(0, depth > 0 ? 7 : 4);
    if (kind === 0) return null;
    if (kind === 1) return this.chance(0.5);
    if (kind <= 3) return this.pick([0, 1, -1, 0.5, -0.25, 1e21, 5e-324, 420, this.integer(-1000, 1000)]);
    if (kind === 4)
      return this.pick(['', 'aloft', 'a/b', '~0', 'ß', '\u{1F388}', '\uffee', '0', 'null', this.next().toString(36)]);
    if (kind === 5) return Array.from({ length: this.integer(0, 5) }, () => this.value(depth - 1));
    return this.object(depth - 1);
  }

  object(depth = 3): JsonObject {
    const names = ['a', 'b', 'name', 'a/b', 'm~n', '', '__proto__', 'constructor', '0', '-', '\u{1F388}'];
    const object: JsonObject = {};
    for (let count = this.integer(0, 5); count > 0; count--) {
      const value = this.value(depth);
      Object.defineProperty(object, this.pick(names), { value, enumerable: true, configurable: true, writable: true });
    }
    return object;
  }

  /** The value with something altered in it. */
  altered(value: JsonValue): JsonValue {
    if (Array.isArray(value) && this.chance(0.8)) {
      const copy = [...value];
      const at = this.integer(0, copy.length);
      const what = this.integer(0, 2);
      if (what === 0) copy.splice(at, 0, this.value(2));
      else if (copy.length > 0 && what === 1) copy.splice(at % copy.length, 1);
      else if (copy.length > 0) copy[at % copy.length] = this.altered(copy[at % copy.length]!);
      return copy;
    }
    if (typeof value === 'object' && value !== null && !Array.isArray(value) && this.chance(0.9)) {
      const copy = { ...value, ...(this.chance(0.4) ? this.object(2) : {}) };
      const names = Object.keys(copy);
      if (names.length === 0) return copy;
      const name = this.pick(names);
      if (this.chance(0.3)) delete copy[name];
      else if (name !== '__proto__') copy[name] = this.altered(copy[name]!);
      return copy;
    }
    return this.value(3);
  }
}
