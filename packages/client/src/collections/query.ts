import type { JsonObject } from '@uproar/core';
import type { Listing, WireQuery } from '@uproar/protocol';
import type { Schemas } from '../schema/schema.js';
import type { AnyRelated, TypedDocument } from '../views/view.js';
import type { Watch } from '../views/watch.js';
import type { FieldList, FieldNames, OrderList, TotalList } from './field-types.js';
import type { IncludesOf, NoSchemas, RelatedOf } from './related-types.js';
import { Condition, fieldNames, where, type Quotable } from './where.js';

/** What a query may say beside its collection; see the query language. Views have the order themselves. */
export type QueryParts = Omit<WireQuery, 'from' | 'ordered'>;

/** A result with documents of a known type. */
export type TypedListing<Data, Related = AnyRelated> = Omit<Listing, 'documents'> & {
  documents: TypedDocument<Data, Related>[];
};

/** The common part of a query and a whole collection. Each method returns a narrower or reordered query. */
export abstract class QuerySteps<Data, Known extends Schemas = NoSchemas, Related = AnyRelated> {
  /** The query with these parts in place of its own. */
  protected abstract step(parts: QueryParts): Query<Data, Known, Related>;
  protected abstract readonly condition: WireQuery['where'];

  /**
   * With a condition: as a template that quotes its values, as a function of the fields, as text in CQL2, or as CQL2 JSON. A
   * second one must hold too. Only the function is checked when a program is compiled: it can use no fields that do not exist.
   */
  where(condition: TemplateStringsArray, ...values: readonly Quotable[]): Query<Data, Known, Related>;
  where(
    condition: Condition | string | JsonObject | ((fields: FieldNames<Data>) => Condition),
  ): Query<Data, Known, Related>;
  where(
    condition: TemplateStringsArray | Condition | string | JsonObject | ((fields: FieldNames<Data>) => Condition),
    ...values: readonly Quotable[]
  ): Query<Data, Known, Related> {
    const next = readCondition(
      typeof condition === 'function' ? condition(fieldNames() as FieldNames<Data>) : condition,
      values,
    );
    const before = this.condition;
    if (before === undefined) return this.step({ where: next });
    if (typeof before === 'string' && typeof next === 'string')
      return this.step({ where: `(${before}) AND (${next})` });
    throw new TypeError('Conditions as JSON cannot be combined here; write one condition.');
  }

  /** Ordered by fields, `-` before one for descending: `order('-altitude,name')`. */
  order<const List extends string>(
    fields: List extends OrderList<List, Data> ? List : OrderList<List, Data>,
  ): Query<Data, Known, Related> {
    return this.step({ order: fields });
  }

  /** Limits the number of documents. */
  limit(count: number | 'none'): Query<Data, Known, Related> {
    return this.step({ limit: count });
  }

  /** Behind a cursor: the `next` of the result before. */
  after(cursor: string): Query<Data, Known, Related> {
    return this.step({ after: cursor });
  }

  /** Only these fields: `fields('name,pilot.name')`. Documents have no bookkeeping then. */
  fields<const List extends string>(
    names: List extends FieldList<List, Data> ? List : FieldList<List, Data>,
  ): Query<Partial<Data>, Known, Related> {
    return this.step({ fields: names }) as unknown as Query<Partial<Data>, Known, Related>;
  }

  /**
   * With related documents, under `related` of each document: as text, `include('crew = crews via crewId')`, or by name,
   * `include({ crew: { from: 'crews', via: 'crewId' } })`. By name they are typed, if the store was connected with the schemas
   * of their collections.
   */
  include(related: string): Query<Data, Known>;
  include<const Includes extends IncludesOf<Data>>(
    related: Includes,
  ): Query<Data, Known, RelatedOf<Includes, Data, Known>>;
  include(related: string | IncludesOf<Data>): unknown {
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
export class Query<Data = JsonObject, Known extends Schemas = NoSchemas, Related = AnyRelated> extends QuerySteps<
  Data,
  Known,
  Related
> {
  readonly #collection: QueryRunner<Data>;
  readonly #parts: QueryParts;

  /** For collections. */
  constructor(collection: QueryRunner<Data>, parts: QueryParts) {
    super();
    this.#collection = collection;
    this.#parts = parts;
  }

  /** The first document, or group; undefined if there is none. */
  async get(): Promise<TypedDocument<Data, Related> | undefined> {
    const first = this.#parts.summary === undefined ? this.limit(1) : this;
    return (await first.list()).documents[0];
  }

  /** The documents, once; 500 if there is no limit. */
  list(): Promise<TypedListing<Data, Related>> {
    return this.#collection.list(this.#parts as QueryParts & { limit?: number }) as Promise<
      TypedListing<Data, Related>
    >;
  }

  /** The documents, live; all of them if there is no limit. */
  watch(): Watch<Data, Related> {
    return this.#collection.watch(this.#parts) as unknown as Watch<Data, Related>;
  }

  protected get condition(): WireQuery['where'] {
    return this.#parts.where;
  }

  protected step(parts: QueryParts): Query<Data, Known, Related> {
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
