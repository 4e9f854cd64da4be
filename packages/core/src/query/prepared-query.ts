import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import type { Cursor } from './cursor.js';
import type { Predicate } from './evaluate.js';
import type { OrderTerm } from './order-terms.js';
import type { Summary } from './summary.js';
import type { Node } from './tree.js';
import type { WorkMeter } from './work.js';

/** A prepared query. */
export interface Query {
  readonly from: string;
  /** The condition as it was asked. */
  readonly asked: Node | undefined;
  /** The effective condition: the requested one, combined with the rule `read`. */
  readonly where: Node | undefined;
  readonly order: readonly OrderTerm[];
  /** The requested order, including concealed fields. */
  readonly askedOrder: readonly OrderTerm[];
  /** Undefined: no limit. */
  readonly limit: number | undefined;
  /** Whether a watch carries the list of ids in order. */
  readonly ordered: boolean;
  readonly after: Cursor | undefined;
  readonly fields: readonly (readonly string[])[] | undefined;
  /** The related documents of each document. */
  readonly includes: readonly Include[];
  /** Totals that are shown instead of the documents. */
  readonly summary: Summary | undefined;
  /**
   * Whether a document matches the query, without regard to the limit.
   *
   * @throws {WorkLimitError} when it takes more steps than allowed for one document
   */
  readonly matches: Predicate;
  /** Counts the work of `matches`. */
  readonly work: WorkMeter;
  /** Compares two documents by the order of the query; never 0 for different ids. */
  readonly compare: (a: Document, b: Document) => number;
  /** The visible part of a document: without concealed fields. */
  readonly see: (document: Document) => Document;
  /** The returned part of a document: without concealed fields, and reduced to the requested fields. */
  readonly show: (document: Document) => Document;
  /** True when documents are shown as they are. */
  readonly whole: boolean;
  /** The same for every query that asks the same thing in the same form, and gets the same to see. */
  readonly key: string;
}

/** Changes queries for a caller with limited access. */
export interface PolicyFilter {
  /** The condition that decides, for the one that is asked. */
  where(asked: Node | undefined): Node | undefined;
  order(order: OrderTerm[]): OrderTerm[];
  /** A document as it is to be seen; undefined: as it is. */
  show: ((document: Document) => Document) | undefined;
  /** Distinguishes filters that `where` and `order` do not. */
  key: JsonValue | readonly (readonly string[])[];
}

/** A prepared include. */
export interface Include {
  readonly name: string;
  /** A field of the document here, or one of the documents there. */
  readonly via: readonly string[] | undefined;
  readonly by: readonly string[] | undefined;
  /** The query of the related documents: which, in which order, how many, and which fields. */
  readonly query: Query;
  readonly limit: number;
}
