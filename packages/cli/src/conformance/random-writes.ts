import type { JsonObject, JsonValue } from '@uproar/core';

/** A seeded source of random numbers (the generator mulberry32). */
export class Chance {
  #state: number;

  constructor(seed: number) {
    this.#state = seed;
  }

  /** A number from 0 up to, but not, 1. */
  next(): number {
    this.#state = (this.#state + 0x6d2b79f5) | 0;
    let mixed = Math.imul(this.#state ^ (this.#state >>> 15), 1 | this.#state);
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed;
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296;
  }

  /** A whole number from `low` to `high`. */
  integer(low: number, high: number): number {
    return low + Math.floor(this.next() * (high - low + 1));
  }

  pick<Item>(items: readonly Item[]): Item {
    return items[this.integer(0, items.length - 1)]!;
  }
}

/** Values that programs often get wrong. */
export const HARD_VALUES: readonly JsonValue[] = [
  null,
  '',
  0,
  -1.5,
  0.1,
  1e21,
  5e-324,
  9007199254740991,
  '"quoted" \\ and / \b\f\n\r\t',
  'ballon d’été, 気球, 🎈, \u2028 and \u0000',
  '  data: {"seq":1}',
  [],
  {},
  [[], [null, [1]]],
  { '': { '': 1 } },
];

/** Names of members that programs often get wrong in JSON Pointers. */
export const HARD_NAMES = ['a/b', 'm~n', '~1', '~0', '', ' ', '0', '-', 'été', 'a.b', '"', '\\', '%20', '🎈'] as const;

const IDS = ['bl-1', 'bl-2', 'bl-3', 'bl-4', 'bl-5', 'bl-6', 'b~1', 'B.7_x', '-', '0'];
const STATUSES = ['packed', 'inflating', 'aloft', 'landed'];

/** One write of a commit, as the store takes it. */
export type RandomWrite = Record<string, JsonValue>;

/** Random commits on the collection `balloons`. */
export class RandomWrites {
  readonly #chance: Chance;
  readonly #present = new Map<string, JsonObject>();

  constructor(seed: number) {
    this.#chance = new Chance(seed);
  }

  /** The writes of the next commit; at most one for each document. */
  next(): RandomWrite[] {
    const ids = new Set(Array.from({ length: this.#chance.integer(1, 3) }, () => this.#chance.pick(IDS)));
    return [...ids].map((id) => this.#write(id));
  }

  #write(id: string): RandomWrite {
    const address = `balloons/${id}`;
    const data = this.#present.get(id);
    const kind = data ? this.#chance.pick(['put', 'merge', 'merge', 'patch', 'patch', 'delete']) : 'put';
    if (kind === 'delete') {
      this.#present.delete(id);
      return { delete: address };
    }
    if (kind === 'put') {
      const whole = this.#data();
      this.#present.set(id, whole);
      return { put: address, data: whole };
    }
    if (kind === 'merge')
      return { merge: address, data: { altitude: this.#chance.integer(0, 900), status: this.#status() } };
    return { patch: address, ops: this.#operations() };
  }

  /** Operations on members that every document of this collection has. */
  #operations(): JsonValue {
    return [
      { op: 'add', path: '/crew/list/0', value: this.#value() },
      ...(this.#chance.next() < 0.5 ? [{ op: 'add', path: '/crew/list/-', value: this.#value() }] : []),
      ...(this.#chance.next() < 0.5 ? [{ op: 'remove', path: '/crew/list/0' }] : []),
      { op: 'add', path: `/odd/${escape(this.#chance.pick(HARD_NAMES))}`, value: this.#value() },
    ];
  }

  #data(): JsonObject {
    return {
      name: `Balloon ${this.#chance.integer(1, 99)}`,
      status: this.#status(),
      altitude: this.#chance.integer(0, 900),
      crew: { list: Array.from({ length: this.#chance.integer(0, 5) }, () => this.#value()) },
      odd: { [this.#chance.pick(HARD_NAMES)]: this.#value() },
      note: 'The note stays the same, so that a change of another member is a small patch. '.repeat(3),
    };
  }

  #status(): string {
    return this.#chance.pick(STATUSES);
  }

  #value(): JsonValue {
    return this.#chance.next() < 0.5 ? this.#chance.integer(0, 99) : this.#chance.pick(HARD_VALUES);
  }
}

/** A member name within a JSON Pointer (RFC 6901, section 3). */
function escape(name: string): string {
  return name.replaceAll('~', '~0').replaceAll('/', '~1');
}
