import type { JsonObject } from '@uproar/core';
import type { Listing, WireQuery } from '@uproar/protocol';
import type { TypedDocument } from '../views/view.js';
import type { Watch } from '../views/watch.js';
import type { FieldList, FieldPath, OrderList, TotalList } from './field-types.js';
import { Condition, where, type Quotable } from './where.js';

/** What a query may say beside its collection; see the query language. */
export type QueryParts = Omit<WireQuery, 'from'>;

/** A result with documents of a known type. */
export type TypedListing<Data> = Omit<Listing, 'documents'> & { documents: TypedDocument<Data>[] };

/** Related documents by name; `via` is a field of the documents of the query. */
export type IncludesOf<Data> = Record<
  string,
  Omit<Exclude<NonNullable<QueryParts['include']>, string>[string], 'via'> & { via?: FieldPath<Data> }
>;

/** The common part of a query and a whole collection. Each method returns a narrower or reordered query. */
export abstract class QuerySteps<Data> {
  /** The query with these parts in place of its own. */
  protected abstract step(parts: QueryParts): Query<Data>;
  protected abstract readonly condition: WireQuery['where'];

  /**
   * With a condition: as a template that quotes its values, as text in CQL2, or as CQL2 JSON. A second one must hold too.
   */
  where(condition: TemplateStringsArray, ...values: readonly Quotable[]): Query<Data>;
  where(condition: Condition | string | JsonObject): Query<Data>;
  where(
    condition: TemplateStringsArray | Condition | string | JsonObject,
    ...values: readonly Quotable[]
  ): Query<Data> {
    const next = readCondition(condition, values);
    const before = this.condition;
    if (before === undefined) return this.step({ where: next });
    if (typeof before === 'string' && typeof next === 'string')
      return this.step({ where: `(${before}) AND (${next})` });
    throw new TypeError('Conditions as JSON cannot be combined here; write one condition.');
  }

  /** Ordered by fields, `-` before one for descending: `order('-altitude,name')`. */
  order<const List extends string>(
    fields: List extends OrderList<List, Data> ? List : OrderList<List, Data>,
  ): Query<Data> {
    return this.step({ order: fields });
  }

  /** Limits the number of documents. */
  limit(count: number | 'none'): Query<Data> {
    return this.step({ limit: count });
  }

  /** Behind a cursor: the `next` of the result before. */
  after(cursor: string): Query<Data> {
    return this.step({ after: cursor });
  }

  /** Only these fields: `fields('name,pilot.name')`. Documents have no bookkeeping then. */
  fields<const List extends string>(
    names: List extends FieldList<List, Data> ? List : FieldList<List, Data>,
  ): Query<Partial<Data>> {
    return this.step({ fields: names }) as unknown as Query<Partial<Data>>;
  }

  /**
   * With related documents, under `related` of each document: as text, `include('crew = crews via crewId')`, or by name,
   * `include({ crew: { from: 'crews', via: 'crewId' } })`.
   */
  include(related: string | IncludesOf<Data>): Query<Data> {
    return this.step({ include: related as NonNullable<QueryParts['include']> });
  }

  /**
   * Totals instead of documents: `summary('count(),sum(passengers)', 'status')`. Each group of documents is shown as one, whose
   * data are the values it is by and its totals.
   *
   * @param by the fields whose values make a group; left out, all are one
   */
  summary<const Totals extends string, const By extends string>(
    totals: Totals extends TotalList<Totals, Data> ? Totals : TotalList<Totals, Data>,
    by?: By extends FieldList<By, Data> ? By : FieldList<By, Data>,
  ): Query<JsonObject> {
    return this.step({ summary: totals, by }) as unknown as Query<JsonObject>;
  }
}

/** What runs a query: its collection. */
export interface QueryRunner<Data> {
  list(query: QueryParts & { limit?: number }): Promise<TypedListing<Data>>;
  watch(query: QueryParts): Watch<Data>;
}

/** A query of one collection, made step by step; each step gives a new one. */
export class Query<Data = JsonObject> extends QuerySteps<Data> {
  readonly #collection: QueryRunner<Data>;
  readonly #parts: QueryParts;

  /** For collections. */
  constructor(collection: QueryRunner<Data>, parts: QueryParts) {
    super();
    this.#collection = collection;
    this.#parts = parts;
  }

  /** The first document, or group; undefined if there is none. */
  async get(): Promise<TypedDocument<Data> | undefined> {
    const first = this.#parts.summary === undefined ? this.limit(1) : this;
    return (await first.list()).documents[0];
  }

  /** The documents, once; 500 if there is no limit. */
  list(): Promise<TypedListing<Data>> {
    return this.#collection.list(this.#parts as QueryParts & { limit?: number });
  }

  /** The documents, live; all of them if there is no limit. */
  watch(): Watch<Data> {
    return this.#collection.watch(this.#parts);
  }

  protected get condition(): WireQuery['where'] {
    return this.#parts.where;
  }

  protected step(parts: QueryParts): Query<Data> {
    return new Query(this.#collection, { ...this.#parts, ...parts });
  }
}

function readCondition(
  condition: TemplateStringsArray | Condition | string | JsonObject,
  values: readonly Quotable[],
): string | JsonObject {
  if (Array.isArray(condition)) return where(condition as unknown as TemplateStringsArray, ...values).text;
  return condition instanceof Condition ? condition.text : (condition as string | JsonObject);
}
