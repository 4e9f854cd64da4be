import { FieldNames } from '@uproar/core';
import type { Collections } from './collections.js';
import { readStored } from './documents.js';
import type { Reader } from './reader.js';

/** The number of oldest and of newest documents of a collection that are sampled. */
const EACH_END = 50;

/** Sampling stops when the documents together have this many characters. */
const EACH_END_LENGTH = 256 * 1024;

/** How long the result is cached, in milliseconds. */
const KEPT_MS = 5000;

/** The usual field names of a collection, to find misspelt names. */
export class FieldNameSamples {
  readonly #collections: Collections;
  readonly #reader: Reader;
  readonly #kept = new Map<string, { names: FieldNames; untilMs: number }>();

  constructor(collections: Collections, reader: Reader) {
    this.#collections = collections;
    this.#reader = reader;
  }

  /** The names in some documents of a collection; none where there is no such collection. */
  of(collection: string, nowMs = Date.now()): FieldNames {
    const kept = this.#kept.get(collection);
    if (kept && kept.untilMs > nowMs) return kept.names;
    const names = new FieldNames();
    const info = this.#collections.get(collection);
    if (!info) return names;
    for (const direction of ['ASC', 'DESC']) {
      const sql = `SELECT * FROM documents WHERE collection = ? ORDER BY id ${direction} LIMIT ${EACH_END}`;
      let length = 0;
      for (const stored of this.#reader.rows.all(sql, [info.number])) {
        names.note(readStored(stored).data);
        if ((length += stored.data.length) > EACH_END_LENGTH) break;
      }
    }
    this.#kept.set(collection, { names, untilMs: nowMs + KEPT_MS });
    return names;
  }
}
