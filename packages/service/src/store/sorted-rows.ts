import { compareStrings, compareValues, orderValue, type Document, type JsonValue, type Query } from '@uproar/core';
import { tooManyBytes } from '../limits/costs.js';

/** What the values that a result is ordered by may take in memory, in bytes. */
const MAX_BYTES = 64 * 1024 * 1024;

/** This many more places than wanted are collected before the last ones are dropped. */
const SLACK = 1000;

interface Place {
  id: string;
  values: (JsonValue | undefined)[];
  bytes: number;
}

/** The first places of a result in the order of its query. Only ids and the values ordered by are kept. */
export class SortedRows {
  #places: Place[] = [];
  #bytes = 0;

  constructor(
    readonly query: Query,
    readonly wanted: number,
  ) {}

  /** @throws {ProblemError} `query-too-costly` when the values ordered by take too much memory */
  add(document: Document): void {
    const values = this.query.order.map((term) => orderValue(document, term));
    const bytes = values.reduce<number>((sum, value) => sum + sizeOf(value), document.id.length + 64);
    this.#places.push({ id: document.id, values, bytes });
    this.#bytes += bytes;
    if (this.#places.length >= 2 * this.wanted + SLACK || this.#bytes > MAX_BYTES) this.#cut();
    if (this.#bytes > MAX_BYTES) throw tooManyBytes('The sort order of this query', MAX_BYTES);
  }

  /** The first places, in order. */
  take(): Place[] {
    this.#cut();
    return this.#places;
  }

  #cut(): void {
    this.#places.sort((a, b) => this.#compare(a, b));
    for (const { bytes } of this.#places.splice(this.wanted)) this.#bytes -= bytes;
  }

  #compare(a: Place, b: Place): number {
    for (const [index, { descending }] of this.query.order.entries()) {
      const difference = compareValues(a.values[index], b.values[index]);
      if (difference !== 0) return descending ? -difference : difference;
    }
    return compareStrings(a.id, b.id);
  }
}

function sizeOf(value: JsonValue | undefined): number {
  if (typeof value === 'string') return 2 * value.length;
  return typeof value === 'object' && value !== null ? 2 * JSON.stringify(value).length : 8;
}
