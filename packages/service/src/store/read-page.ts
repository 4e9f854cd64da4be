import { relatedTo, type JsonObject, type Query } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { tooManyBytes, tooMuchWork } from '../limits/costs.js';
import type { Found, ReadLimits } from './found.js';
import type { StoredRelations } from './stored-relations.js';

/** What a result may take where no budget is given. */
const DEFAULT_READ_BYTES = 64 * 1024 * 1024;

/** A longer read pauses after this many milliseconds, so that other requests are served. */
const SLICE_MS = 8;

/** A result that is filled up to a number of documents and bytes. */
export class Page {
  readonly found: Found[] = [];
  more = false;
  #bytes = 0;
  readonly #most: number;

  constructor(
    readonly query: Query,
    readonly wanted: number,
    readonly limits: ReadLimits,
  ) {
    this.#most = limits.bytes ?? DEFAULT_READ_BYTES;
  }

  /** Whether there are as many documents as are wanted. */
  get full(): boolean {
    return this.found.length === this.wanted;
  }

  /**
   * Adds a document, unless the page is full; then there is more. A document that is too large for a page of its own is refused.
   *
   * @throws {ProblemError} `query-too-costly`, or `budget-exceeded`
   */
  add(found: Found): boolean {
    this.more = this.full;
    if (this.more) return false;
    const bytes = found.textFor(this.query).length;
    if (this.#bytes + bytes > this.#most) {
      if (this.limits.whole) throw tooManyBytes('The state of this watch', this.#most);
      if (this.found.length === 0)
        throw tooManyBytes(`The document ${found.stored.id} with its related documents`, this.#most);
      this.more = true;
      return false;
    }
    this.limits.onBytes?.(bytes);
    this.#bytes += bytes;
    this.found.push(found);
    return true;
  }
}

/** The related documents of one more document of a result. */
export function relateNext({ document }: Found, query: Query, relations: StoredRelations): JsonObject {
  relations.next();
  return relatedTo(document, query, relations);
}

/** Passes items on up to a limit of documents and work; then throws an error for the caller. */
export function* bounded<Item>(
  items: Iterable<Item>,
  { documents = Infinity, work = Infinity }: ReadLimits,
  query: Query,
): Generator<Item> {
  const workEnd = query.work.total + work;
  let left = documents;
  for (const item of items) {
    if (query.work.total > workEnd) throw tooMuchWork(work);
    if (left-- === 0) {
      throw problemError(
        'query-too-costly',
        `The query would read more than ${documents} documents. Request less, or create an index.`,
      );
    }
    yield item;
  }
}

/**
 * Passes items on in slices of time, between which others are served. The items of a slice are taken one by one while it is
 * read; the next slice may be asked for only after that.
 */
export async function* inSlices<Item>(items: Iterable<Item>): AsyncGenerator<Iterable<Item>> {
  const iterator = items[Symbol.iterator]();
  let done = false;
  function* slice() {
    const endMs = performance.now() + SLICE_MS;
    do {
      const next = iterator.next();
      if (next.done) {
        done = true;
        return;
      }
      yield next.value;
    } while (performance.now() < endMs);
  }
  try {
    while (!done) {
      yield slice();
      if (!done) await new Promise((resolve) => setImmediate(resolve));
    }
  } finally {
    iterator.return?.();
  }
}
