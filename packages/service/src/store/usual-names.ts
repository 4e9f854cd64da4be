import { FieldNames } from '@uproar/core';
import type { Collections } from './collections.js';
import { readStored } from './documents.js';
import type { Reader } from './reader.js';

/** So many of the oldest documents of a collection are looked at, and as many of the newest. */
const EACH_END = 50;

/** No more are looked at once these were so long together, in characters. */
const EACH_END_LENGTH = 256 * 1024;

/** What was found holds for so long, in milliseconds. */
const KEPT_MS = 5000;

/** The names of fields that documents of a collection usually have, to tell what somebody has misspelt. */
export class UsualNames {
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
