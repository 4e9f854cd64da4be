import { compareStrings, compareValues, orderValue, type JsonValue, type Query } from '@uproar/core';
import { tooManyBytes } from '../limits/costs.js';
import type { StoredContent } from './documents.js';
import type { Candidate } from './found.js';

/** What the values that a result is ordered by may take in memory, in bytes. */
const MAX_BYTES = 64 * 1024 * 1024;

/** The most memory for the documents of one result, in bytes. Further documents are read again after sorting. */
const MAX_KEPT_BYTES = 16 * 1024 * 1024;

/** This many more places than wanted are collected before the last ones are dropped. */
const SLACK = 1000;

/** A document of a result, with the values to sort by. */
export interface Place {
  id: string;
  values: (JsonValue | undefined)[];
  bytes: number;
  /** The document; undefined if it has to be read again. */
  stored: StoredContent | undefined;
}

/** The approximate memory of a document in bytes. */
const sizeOfStored = ({ data }: StoredContent) => 200 + data.length;

/** The first documents of a result in the order of its query. Large results keep only ids and the values to sort by. */
export class SortedRows {
  #places: Place[] = [];
  #bytes = 0;
  #keptBytes = 0;

  constructor(
    readonly query: Query,
    readonly wanted: number,
  ) {}

  /** @throws {ProblemError} `query-too-costly` when the values ordered by take too much memory */
  add(document: Candidate): void {
    const values = this.query.order.map((term) => orderValue(document, term));
    const bytes = values.reduce<number>((sum, value) => sum + sizeOf(value), document.id.length + 64);
    const keptBytes = this.#keptBytes + sizeOfStored(document.stored);
    const isKept = keptBytes <= MAX_KEPT_BYTES;
    if (isKept) this.#keptBytes = keptBytes;
    this.#places.push({ id: document.id, values, bytes, stored: isKept ? document.stored : undefined });
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
    for (const { bytes, stored } of this.#places.splice(this.wanted)) {
      this.#bytes -= bytes;
      if (stored) this.#keptBytes -= sizeOfStored(stored);
    }
  }

  #compare(a: Place, b: Place): number {
    const { order } = this.query;
    for (let index = 0; index < order.length; index++) {
      const difference = compareValues(a.values[index], b.values[index]);
      if (difference !== 0) return order[index]!.descending ? -difference : difference;
    }
    return compareStrings(a.id, b.id);
  }
}

function sizeOf(value: JsonValue | undefined): number {
  if (typeof value === 'string') return 2 * value.length;
  return typeof value === 'object' && value !== null ? 2 * JSON.stringify(value).length : 8;
}
