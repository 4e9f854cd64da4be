import type { JsonObject } from '@uproar/core';
import type { Listing, WireQuery } from '@uproar/protocol';
import type { Collection } from './collection.js';
import type { TypedDocument } from './view.js';
import type { Watch } from './watch.js';
import { where, type Condition, type Quotable } from './where.js';

/** What a query may say beside its collection; see the query language. */
export type QueryParts = Omit<WireQuery, 'from'>;

/** A result with documents of a known type. */
export type TypedListing<Data> = Omit<Listing, 'documents'> & { documents: TypedDocument<Data>[] };

/** A query of one collection, made step by step; each step gives a new one. */
export class Query<Data = JsonObject> {
  constructor(
    protected readonly source: Collection<Data>,
    protected readonly parts: QueryParts = {},
  ) {}

  /**
   * With a condition: as a template that quotes its values, as text in CQL2, or as CQL2 JSON. A second one must hold too.
   */
  where(condition: TemplateStringsArray, ...values: readonly Quotable[]): Query<Data>;
  where(condition: Condition | string | JsonObject): Query<Data>;
  where(
    condition: TemplateStringsArray | Condition | string | JsonObject,
    ...values: readonly Quotable[]
  ): Query<Data> {
    const text = Array.isArray(condition)
      ? where(condition as unknown as TemplateStringsArray, ...values).text
      : (condition as Condition).text !== undefined && typeof (condition as Condition).text === 'string'
        ? (condition as Condition).text
        : (condition as string | JsonObject);
    const { where: before } = this.parts;
    if (before === undefined) return this.#with({ where: text });
    if (typeof before === 'string' && typeof text === 'string')
      return this.#with({ where: `(${before}) AND (${text})` });
    throw new TypeError('Conditions as JSON cannot be joined to others here; write one that holds both.');
  }

  /** Ordered by fields, `-` before one for descending: `order('-altitude,name')`. */
  order(fields: string): Query<Data> {
    return this.#with({ order: fields });
  }

  /** At most so many documents. */
  limit(count: number | 'none'): Query<Data> {
    return this.#with({ limit: count });
  }

  /** Behind a cursor: the `next` of the result before. */
  after(cursor: string): Query<Data> {
    return this.#with({ after: cursor });
  }

  /** Only these fields: `fields('name,pilot.name')`. Documents have no bookkeeping then. */
  fields(names: string): Query<Partial<Data>> {
    return this.#with({ fields: names }) as unknown as Query<Partial<Data>>;
  }

  /** The first document; undefined where there is none. */
  async first(): Promise<TypedDocument<Data> | undefined> {
    return (await this.limit(1).list()).documents[0];
  }

  /** The documents, once; 500 if there is no limit. */
  list(): Promise<TypedListing<Data>> {
    return this.source.list(this.parts as QueryParts & { limit?: number });
  }

  /** The documents, live; all of them if there is no limit. */
  watch(): Watch<Data> {
    return this.source.watch(this.parts);
  }

  #with(parts: QueryParts): Query<Data> {
    return new Query(this.source, { ...this.parts, ...parts });
  }
}
