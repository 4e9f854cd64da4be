import type { Adjustments, JsonPatch } from '@uproar/core';
import type { FieldName } from './where.js';

/** How deep the names of fields are known. */
type Deeper = [never, 0, 1, 2, 3, 4];

/** Whether nothing is known of the fields. */
type IsLoose<Data> = string extends keyof Data ? true : false;

/** What a field holds, apart from being absent. */
type Held<Data, Name extends keyof Data> = NonNullable<Data[Name]>;

/** The names of the fields of documents; dots reach into objects: `status`, `pilot.name`. */
export type FieldPath<Data, Depth extends number = 5> = [Depth] extends [never]
  ? string
  : IsLoose<Data> extends true
    ? string
    : {
        [Name in keyof Data & string]: Held<Data, Name> extends readonly unknown[]
          ? Name
          : Held<Data, Name> extends object
            ? Name | `${Name}.${FieldPath<Held<Data, Name>, Deeper[Depth]>}`
            : Name;
      }[keyof Data & string];

/** The JSON Pointers (RFC 6901) to the fields of documents: `/status`, `/pilot/name`; anything within lists. */
export type FieldPointer<Data, Depth extends number = 5> = [Depth] extends [never]
  ? string
  : IsLoose<Data> extends true
    ? string
    : {
        [Name in keyof Data & string]: Held<Data, Name> extends readonly unknown[]
          ? `/${Name}` | `/${Name}/${string}`
          : Held<Data, Name> extends object
            ? `/${Name}` | `/${Name}${FieldPointer<Held<Data, Name>, Deeper[Depth]>}`
            : `/${Name}`;
      }[keyof Data & string];

/** The fields of documents for a condition; those of an object are members of its field. */
export type FieldNames<Data, Depth extends number = 5> = [Depth] extends [never]
  ? FieldName
  : IsLoose<Data> extends true
    ? LooseFieldNames
    : {
        readonly [Name in keyof Data]-?: Held<Data, Name> extends readonly unknown[]
          ? FieldName
          : Held<Data, Name> extends object
            ? FieldName & FieldNames<Held<Data, Name>, Deeper[Depth]>
            : FieldName;
      };

/** Fields of which nothing is known. */
interface LooseFieldNames {
  readonly [name: string]: FieldName & LooseFieldNames;
}

/** Adjustments of fields that exist. */
export type AdjustmentsOf<Data> = { [Pointer in FieldPointer<Data>]?: Adjustments[string] };

/** Operations of a JSON Patch (RFC 6902) on fields that exist. */
export type PatchOf<Data> = (JsonPatch[number] & { path: FieldPointer<Data> | '' })[];

type Trimmed<Text extends string> = Text extends ` ${infer Rest}`
  ? Trimmed<Rest>
  : Text extends `${infer Rest} `
    ? Trimmed<Rest>
    : Text;

/** Names that are not fields of the data, or that are quoted: they are checked when the query is sent. */
type Unchecked = `meta(${string}` | `"${string}` | `${string}."${string}` | `id()` | '';

/** Whether a name is one of a field. */
type IsField<Name extends string, Data> = Name extends FieldPath<Data> | Unchecked ? true : false;

/** Whether all names of a list are names of fields. */
type AreFields<List extends string, Data> = List extends `${infer First},${infer Rest}`
  ? IsField<Trimmed<First>, Data> extends true
    ? AreFields<Rest, Data>
    : false
  : IsField<Trimmed<List>, Data>;

/** A list of fields separated by commas, as it was written if all of them exist; otherwise one of their names. */
export type FieldList<List extends string, Data> = string extends List
  ? List
  : AreFields<List, Data> extends true
    ? List
    : FieldPath<Data>;

type WithoutMinus<Term extends string> = Term extends `-${infer Name}` ? Trimmed<Name> : Term;

type AreTerms<List extends string, Data> = List extends `${infer First},${infer Rest}`
  ? IsField<WithoutMinus<Trimmed<First>>, Data> extends true
    ? AreTerms<Rest, Data>
    : false
  : IsField<WithoutMinus<Trimmed<List>>, Data>;

/** As {@link FieldList}, with `-` before fields in descending order. */
export type OrderList<List extends string, Data> = string extends List
  ? List
  : AreTerms<List, Data> extends true
    ? List
    : FieldPath<Data> | `-${FieldPath<Data>}`;

type AreTotals<List extends string, Data> = List extends `${infer First},${infer Rest}`
  ? IsTotal<Trimmed<First>, Data> extends true
    ? AreTotals<Rest, Data>
    : false
  : IsTotal<Trimmed<List>, Data>;

type IsTotal<Total extends string, Data> = Total extends `${string}(${infer Name})`
  ? IsField<Trimmed<Name>, Data>
  : false;

type TotalFunction = 'sum' | 'avg' | 'min' | 'max';

/** Totals separated by commas, as they were written if their fields exist. */
export type TotalList<List extends string, Data> = string extends List
  ? List
  : AreTotals<List, Data> extends true
    ? List
    : 'count()' | `${TotalFunction}(${FieldPath<Data>})`;
