import type { WireCommit } from '@uproar/protocol';
import type { DataOf, Schemas } from '../schema/schema.js';
import type { Changes, DocumentEnd, WriteOptions } from './collection.js';
import type { AdjustmentsOf, PatchOf } from './field-types.js';
import type { NamesOf } from './related-types.js';

/** A write to a collection whose documents are of a known type. */
export type CollectionWrite<Name extends string, Data> =
  | ({ create: Name; id?: string; data: Data; keepExisting?: true } & DocumentEnd)
  | ({ put: `${Name}/${string}`; data: Data; whileConnected?: true } & WriteOptions)
  | ({ merge: `${Name}/${string}`; data: Changes<Data> } & WriteOptions)
  | ({ patch: `${Name}/${string}`; ops: PatchOf<Data> } & WriteOptions)
  | ({ adjust: `${Name}/${string}`; by: AdjustmentsOf<Data> } & WriteOptions)
  | { delete: `${Name}/${string}`; ifVersion?: number };

/** The collection that a write names, as far as it is known when the program is compiled. */
type CollectionOf<Write> = Write extends { create: infer Name }
  ? Name
  : Write extends
        | { put: `${infer Name}/${string}` }
        | { merge: `${infer Name}/${string}` }
        | { patch: `${infer Name}/${string}` }
        | { adjust: `${infer Name}/${string}` }
    ? Name
    : never;

type KeyOf<Value> = Value extends unknown ? keyof Value : never;
type MemberOf<Value, Name> = Value extends unknown ? (Name extends keyof Value ? Value[Name] : never) : never;

/** Allows only members that are known, at any depth. */
type OnlyKnown<Given, Wanted> = Given extends readonly unknown[]
  ? unknown
  : Given extends object
    ? {
        [Name in keyof Given]: Name extends KeyOf<Wanted>
          ? OnlyKnown<Given[Name], NonNullable<MemberOf<Wanted, Name>>>
          : never;
      }
    : unknown;

/** Allows only fields and pointers that documents have. */
type OnlyFieldsOf<Write, Data> = Write extends { data: infer Given }
  ? { data: OnlyKnown<Given, Data> }
  : Write extends { by: infer Given }
    ? { by: { [Pointer in keyof Given]: Pointer extends keyof AdjustmentsOf<Data> ? unknown : never } }
    : unknown;

/** What a write has to be, by the schema of its collection. */
type Checked<Write, Known extends Schemas> = [CollectionOf<Write>] extends [NamesOf<Known>]
  ? [CollectionOf<Write>] extends [never]
    ? WireCommit['writes'][number]
    : CollectionWrite<CollectionOf<Write>, DataOf<Known[CollectionOf<Write>]>> &
        OnlyFieldsOf<Write, DataOf<Known[CollectionOf<Write>]>>
  : WireCommit['writes'][number];

/** A commit whose writes fit the schemas of their collections. */
export type TypedCommit<Writes extends readonly unknown[], Known extends Schemas> = Omit<WireCommit, 'writes'> & {
  writes: Writes & { [Index in keyof Writes]: Checked<Writes[Index], Known> };
};
