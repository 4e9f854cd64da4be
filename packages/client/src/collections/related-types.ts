import type { JsonObject } from '@uproar/core';
import type { WireQuery } from '@uproar/protocol';
import type { DataOf, Schemas } from '../schema/schema.js';
import type { TypedDocument } from '../views/view.js';
import type { FieldPath } from './field-types.js';

/** The names of the collections whose schemas are known; none for a store of any kind. */
export type NamesOf<Known extends Schemas> = 0 extends 1 & Known ? never : keyof Known & string;

/** A store that was connected without schemas. */
export type NoSchemas = Record<never, never>;

type WireInclude = Exclude<NonNullable<WireQuery['include']>, string>[string];

/** Related documents by name; `via` is a field of the documents of the query. */
export type IncludesOf<Data> = Readonly<Record<string, Omit<WireInclude, 'via'> & { via?: FieldPath<Data> }>>;

/** The data of the documents of a collection, as far as it is known. */
type DataIn<Name, Known extends Schemas> = Name extends NamesOf<Known> ? DataOf<Known[Name]> : JsonObject;

/** One related document with its own related documents. */
type RelatedDocument<Include, Known extends Schemas> = Include extends { from: infer Name; include: infer Inner }
  ? TypedDocument<DataIn<Name, Known>, RelatedOf<Inner, DataIn<Name, Known>, Known>>
  : Include extends { from: infer Name }
    ? TypedDocument<DataIn<Name, Known>>
    : never;

/** The related documents of each document of a query: a list with `by`; with `via`, as the field says. */
export type RelatedOf<Includes, Data, Known extends Schemas> = {
  readonly [Name in keyof Includes]: Includes[Name] extends { via: infer Field }
    ? Field extends keyof Data
      ? NonNullable<Data[Field]> extends readonly unknown[]
        ? RelatedDocument<Includes[Name], Known>[]
        : RelatedDocument<Includes[Name], Known> | null
      : RelatedDocument<Includes[Name], Known> | null | RelatedDocument<Includes[Name], Known>[]
    : RelatedDocument<Includes[Name], Known>[];
};
