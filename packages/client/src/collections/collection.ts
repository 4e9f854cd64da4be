import { formatAddress, type Adjustments, type JsonObject, type JsonPatch } from '@uproar/core';
import type { WireCommit } from '@uproar/protocol';
import { isProblem } from '../transport/problems.js';
import type { AdjustmentsOf, PatchOf } from './field-types.js';
import type { NoSchemas } from './related-types.js';
import { Query, QuerySteps, type QueryParts, type TypedListing } from './query.js';
import { SchemaViolationError, type OnViolation, type Schema, SchemaCheck, type Schemas } from '../schema/schema.js';
import type { Presence } from '../presence/presence-handle.js';
import type { StoreAccess } from '../store-access.js';
import type { TypedDocument } from '../views/view.js';
import type { Watch } from '../views/watch.js';

/** What must hold for a write to be done. */
export interface WriteCondition {
  /** The version that the document must have; 0 if it must not exist. */
  ifVersion?: number;
}

/** When the document of a write ends: the store then deletes it. */
export interface DocumentEnd {
  /** A time (RFC 3339); null: it does not end. */
  expires?: string | null;
  /** A duration from the time when the store takes the write, by the clock of the store, in seconds. */
  ttl?: number;
}

/**
 * How a document is written. Without an end, `put` leaves a document that does not end; `merge`, `patch` and `adjust` keep the
 * end that it has.
 */
export interface WriteOptions extends WriteCondition, DocumentEnd {}

/** Changes of fields by JSON Merge Patch (RFC 7396): null removes a field. */
export type Changes<Data> = {
  [Name in keyof Data]?: Data[Name] extends readonly unknown[]
    ? Data[Name] | null
    : Data[Name] extends object
      ? Changes<Data[Name]> | null
      : Data[Name] | null;
};

/** How a collection deals with its schema. */
export interface CollectionOptions {
  /** What to do with documents that violate the schema; by default they are kept. */
  onViolation?: OnViolation;
}

/** One collection of a store, with documents of a known type where it was given a schema. */
export class Collection<Data = JsonObject, Known extends Schemas = NoSchemas> extends QuerySteps<Data, Known> {
  readonly store: StoreAccess;
  readonly name: string;
  readonly #check: SchemaCheck | undefined;

  /** For the store. */
  constructor(store: StoreAccess, name: string, schema?: Schema<Data>, options: CollectionOptions = {}) {
    super();
    this.store = store;
    this.name = name;
    this.#check =
      schema &&
      new SchemaCheck(name, schema, options.onViolation ?? 'keep', (violation) => store.reportViolation(violation));
  }

  /**
   * Reads one document; undefined if it does not exist.
   *
   * @param options `at`: a seq, to read an earlier state. The journal must reach back that far.
   * @throws {SchemaViolationError} when the document violates the schema and the collection fails on that
   */
  async get(id: string, options: { at?: number } = {}): Promise<TypedDocument<Data> | undefined> {
    try {
      const document = await this.store.call('get', { doc: formatAddress(this.name, id), ...options });
      return this.#checked([document as TypedDocument<Data>])[0];
    } catch (error) {
      if (isProblem(error, 'no-such-document')) return undefined;
      throw error;
    }
  }

  /** Reads the documents of a query, 500 if it has no limit; `after` is the `next` of the listing before. */
  async list(query: QueryParts & { limit?: number } = {}): Promise<TypedListing<Data>> {
    const listing = await this.store.call('query', { from: this.name, ...query });
    const documents = listing.documents as TypedDocument<Data>[];
    return { ...listing, documents: query.summary === undefined ? this.#checked(documents) : documents };
  }

  /** Keeps the documents of a query in view; without a limit, all of them. */
  watch(query: QueryParts = {}): Watch<Data> {
    return this.store.watch(
      { query: { ...(query.summary === undefined ? { limit: 'none' } : {}), ...query, from: this.name } },
      query.summary === undefined ? this.#check : undefined,
    ) as unknown as Watch<Data>;
  }

  /** Keeps one document in view, which need not exist yet. */
  watchOne(id: string): Watch<Data> {
    return this.store.watch({ doc: formatAddress(this.name, id) }, this.#check) as unknown as Watch<Data>;
  }

  /**
   * Creates a document with a generated id. The id is there at once; the promise resolves with it once the document is
   * acknowledged.
   */
  create(data: Data, end: DocumentEnd = {}): Promise<string> & { readonly id: string } {
    const id = this.store.newId();
    const done = this.#write({ create: this.name, id, data: this.#fitting(id, data), ...end }).then(() => id);
    return Object.assign(done, { id });
  }

  /** Creates or replaces a document. Returns its version. */
  put(id: string, data: Data, options: WriteOptions = {}): Promise<number> {
    return this.#write({ put: formatAddress(this.name, id), data: this.#fitting(id, data), ...options });
  }

  /** Changes fields of a document by JSON Merge Patch (RFC 7396): null removes a field. Returns its version. */
  merge(id: string, changes: Changes<Data>, options: WriteOptions = {}): Promise<number> {
    return this.#write({ merge: formatAddress(this.name, id), data: changes as JsonObject, ...options });
  }

  /** Changes a document by JSON Patch (RFC 6902), whose `test` is a condition on a field. Returns its version. */
  patch(id: string, ops: PatchOf<Data>, options: WriteOptions = {}): Promise<number> {
    return this.#write({ patch: formatAddress(this.name, id), ops: ops as JsonPatch, ...options });
  }

  /**
   * Changes fields relative to their value in the store, safe with concurrent writers: `{ '/headcount': { add: 1 } }`.
   * Returns its version.
   */
  adjust(id: string, by: AdjustmentsOf<Data>, options: WriteOptions = {}): Promise<number> {
    return this.#write({ adjust: formatAddress(this.name, id), by: by as Adjustments, ...options });
  }

  /**
   * Writes a document that lives as long as this client is connected, and writes it again after a reconnect. When the client has
   * gone for a while, the store deletes it. Several clients can hold the same document.
   *
   * @returns once the store has taken it
   * @throws {ProblemError} when the store refuses it
   */
  present(id: string, data: Data): Promise<Presence<Data>> {
    return this.store.present(formatAddress(this.name, id), this.#fitting(id, data)) as Promise<Presence<Data>>;
  }

  /** Deletes a document. */
  async delete(id: string, options: WriteCondition = {}): Promise<void> {
    await this.#write({ delete: formatAddress(this.name, id), ...options });
  }

  protected readonly condition = undefined;

  protected step(parts: QueryParts): Query<Data, Known> {
    return new Query(this, parts);
  }

  async #write(write: WireCommit['writes'][number]): Promise<number> {
    const { documents } = await this.store.commitOf({ writes: [write] }, false);
    return documents[0]!.version;
  }

  #checked(documents: TypedDocument<Data>[]): TypedDocument<Data>[] {
    const check = this.#check;
    if (!check) return documents;
    return documents.filter((document) => {
      const violation = check.violationOf(document as never);
      if (violation && check.onViolation === 'fail') throw new SchemaViolationError(violation);
      return !violation || check.onViolation === 'keep';
    });
  }

  #fitting(id: string, data: Data): JsonObject {
    const violation = this.#check?.find(id, data);
    if (violation) throw new SchemaViolationError(violation);
    return data as JsonObject;
  }
}
