import { formatAddress, type Adjustments, type Document, type JsonObject, type JsonPatch } from '@uproar/core';
import type { Listing, WireCommit, WireQuery } from '@uproar/protocol';
import { isProblem } from './connection.js';
import type { Store } from './store.js';
import type { Watch } from './watch.js';

/** What must hold for a write to be done. */
export interface WriteOptions {
  /** The version the document must have; 0 when it must not exist. */
  ifVersion?: number;
}

/** What a query may say beside its collection; see the query language. */
export type QueryParts = Omit<WireQuery, 'from'>;

/** One collection of a store. */
export class Collection {
  constructor(
    readonly store: Store,
    readonly name: string,
  ) {}

  /**
   * Reads one document; undefined where there is none.
   *
   * @param options `at`: a seq, to read it as it was then. The journal must reach back so far.
   */
  async get(id: string, options: { at?: number } = {}): Promise<Document | undefined> {
    try {
      return (await this.store.call('get', { doc: formatAddress(this.name, id), ...options })) as Document;
    } catch (error) {
      if (isProblem(error, 'no-such-document')) return undefined;
      throw error;
    }
  }

  /** Reads the documents of a query, 500 if it has no limit; `after` is the `next` of the listing before. */
  list(query: QueryParts & { limit?: number } = {}): Promise<Listing> {
    return this.store.call('query', { from: this.name, ...query });
  }

  /** Keeps the documents of a query in view; without a limit, all of them. */
  watch(query: QueryParts = {}): Watch {
    return this.store.watch({ query: { limit: 'none', ...query, from: this.name } });
  }

  /** Keeps one document in view, which need not exist yet. */
  watchOne(id: string): Watch {
    return this.store.watch({ doc: formatAddress(this.name, id) });
  }

  /** Creates a document with a generated id, and returns the id. */
  async create(data: JsonObject): Promise<string> {
    const { documents } = await this.store.commit({ writes: [{ create: this.name, data }] });
    return documents[0]!.id;
  }

  /** Creates or replaces a document. Returns its version. */
  put(id: string, data: JsonObject, options: WriteOptions = {}): Promise<number> {
    return this.#write({ put: formatAddress(this.name, id), data, ...options });
  }

  /** Changes fields of a document by JSON Merge Patch (RFC 7396): null removes a field. Returns its version. */
  merge(id: string, data: JsonObject, options: WriteOptions = {}): Promise<number> {
    return this.#write({ merge: formatAddress(this.name, id), data, ...options });
  }

  /** Changes a document by JSON Patch (RFC 6902), whose `test` is a condition on a field. Returns its version. */
  patch(id: string, ops: JsonPatch, options: WriteOptions = {}): Promise<number> {
    return this.#write({ patch: formatAddress(this.name, id), ops, ...options });
  }

  /**
   * Changes fields from the value they have in the store, whoever else writes: `{ '/headcount': { add: 1 } }`. Returns its
   * version.
   */
  adjust(id: string, by: Adjustments, options: WriteOptions = {}): Promise<number> {
    return this.#write({ adjust: formatAddress(this.name, id), by, ...options });
  }

  /** Deletes a document. */
  async delete(id: string, options: WriteOptions = {}): Promise<void> {
    await this.#write({ delete: formatAddress(this.name, id), ...options });
  }

  async #write(write: WireCommit['writes'][number]): Promise<number> {
    const { documents } = await this.store.commit({ writes: [write] });
    return documents[0]!.version;
  }
}
