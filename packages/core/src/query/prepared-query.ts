import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import type { Cursor } from './cursor.js';
import type { Predicate } from './evaluate.js';
import type { OrderTerm } from './order-terms.js';
import type { Summary } from './summary.js';
import type { Node } from './tree.js';
import type { WorkMeter } from './work.js';

/** A query made ready to be asked. */
export interface Query {
  readonly from: string;
  /** The condition as it was asked. */
  readonly asked: Node | undefined;
  /** The condition that decides: what was asked, and what the one who asks may read. */
  readonly where: Node | undefined;
  readonly order: readonly OrderTerm[];
  /** The order as it was asked, with what is concealed from the one who asks. */
  readonly askedOrder: readonly OrderTerm[];
  /** Undefined: no limit. */
  readonly limit: number | undefined;
  readonly after: Cursor | undefined;
  readonly fields: readonly (readonly string[])[] | undefined;
  /** What is shown with each document. */
  readonly includes: readonly Include[];
  /** Totals that are shown instead of the documents. */
  readonly summary: Summary | undefined;
  /**
   * Tells whether a document belongs to the query, the limit aside.
   *
   * @throws {WorkLimitError} when that takes more steps than one document may
   */
  readonly matches: Predicate;
  /** Counts the work of `matches`. */
  readonly work: WorkMeter;
  /** Compares two documents by the order of the query; never 0 for different ids. */
  readonly compare: (a: Document, b: Document) => number;
  /** A document as it may be seen: without what is concealed. */
  readonly see: (document: Document) => Document;
  /** A document as it is shown: without what is concealed, and of the rest the fields wanted. */
  readonly show: (document: Document) => Document;
  /** True when documents are shown as they are. */
  readonly whole: boolean;
  /** The same for every query that asks the same thing in the same form, and gets the same to see. */
  readonly key: string;
}

/** Alters queries for somebody who may not see everything. */
export interface PolicyFilter {
  /** The condition that decides, for the one that is asked. */
  where(asked: Node | undefined): Node | undefined;
  order(order: OrderTerm[]): OrderTerm[];
  /** A document as it is to be seen; undefined: as it is. */
  show: ((document: Document) => Document) | undefined;
  /** Tells apart what `where` and `order` do not. */
  key: JsonValue | readonly (readonly string[])[];
}

/** Related documents made ready to be found. */
export interface Include {
  readonly name: string;
  /** A field of the document here, or one of the documents there. */
  readonly via: readonly string[] | undefined;
  readonly by: readonly string[] | undefined;
  /** Which documents there are taken, in which order, how many, and what of them. */
  readonly query: Query;
  readonly limit: number;
}
