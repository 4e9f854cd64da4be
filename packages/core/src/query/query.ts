import { isCollectionName, type Document } from '../document.js';
import type { JsonObject, JsonValue } from '../json.js';
import { formatCql2Json, parseCql2Json } from './cql2-json.js';
import { compareToCursor, readCursor, type Cursor } from './cursor.js';
import { compile, type Predicate } from './evaluate.js';
import {
  INCLUDE_LIMITS,
  readInclude,
  readIncludes,
  type Include,
  type IncludeForm,
  type IncludesForm,
} from './include.js';
import { joinName } from './names.js';
import { compareBy, formatTerm, parseOrder, type OrderTerm } from './order-terms.js';
import { parseText } from './parse-text.js';
import { project, readFields } from './projection.js';
import { parseSummary, type Summary } from './summary.js';
import { QueryError, type Node } from './tree.js';
import { WorkMeter } from './work.js';

/** A query as it is asked: everything but `from` may be left out. */
export interface QueryForm {
  from: string;
  /** A condition in CQL2 text, or in CQL2 JSON. */
  where?: string | JsonObject | boolean;
  /** Fields to order by, `-` before one for descending: `-altitude,name`. */
  order?: string;
  limit?: number | 'none';
  /** The cursor `next` of the result before. */
  after?: string;
  /** The fields wanted: `name,pilot.name`. */
  fields?: string;
  /** Related documents to be shown with each: as text, or by name. */
  include?: IncludesForm | string;
  /** Totals instead of documents: `count(),sum(passengers)`. */
  summary?: string;
  /** The fields whose values make a group of a summary: `status`. */
  by?: string;
}

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
export interface QueryLens {
  /** The condition that decides, for the one that is asked. */
  where(asked: Node | undefined): Node | undefined;
  order(order: OrderTerm[]): OrderTerm[];
  /** A document as it is to be seen; undefined: as it is. */
  show: ((document: Document) => Document) | undefined;
  /** Tells apart what `where` and `order` do not. */
  key: JsonValue | readonly (readonly string[])[];
}

/** Results are cut to this many documents unless the query says otherwise. */
export const DEFAULT_LIMIT = 500;
export const MAX_LIMIT = 10_000;

/** Gives what somebody sees a collection through; undefined where they see all of it. */
export type LensOf = (collection: string) => QueryLens | undefined;

/**
 * Makes a query ready.
 *
 * @param lensOf what each collection is seen through by the one who asks
 * @throws {QueryError} with the position in `where`, or a message that names the part at fault
 */
export function prepareQuery(form: QueryForm, lensOf: LensOf = () => undefined): Query {
  return prepare(form, lensOf, 1);
}

function prepare(form: QueryForm, lensOf: LensOf, level: number): Query {
  if (!isCollectionName(form.from))
    throw new QueryError(`"${form.from}" cannot be the name of a collection.`, undefined, '/from');
  const lens = lensOf(form.from);
  const asked = readWhere(form.where);
  const where = lens ? lens.where(asked) : asked;
  const summary = readSummary(form);
  const terms = form.order === undefined ? [] : parseOrder(form.order);
  const order = lens ? lens.order(terms) : terms;
  const limit = summary || form.limit === 'none' ? undefined : (form.limit ?? DEFAULT_LIMIT);
  if (limit !== undefined && (!Number.isInteger(limit) || limit < 1 || limit > MAX_LIMIT)) {
    throw new QueryError(`The limit is a whole number from 1 to ${MAX_LIMIT}, or "none".`, undefined, '/limit');
  }
  const after = form.after === undefined ? undefined : readCursor(form.after, order);
  const fields = form.fields === undefined ? undefined : readFields(form.fields, terms);
  const includes = form.include === undefined ? [] : prepareIncludes(form.include, lensOf, level);
  const compare = compareBy(order);
  const truth: Predicate = where ? compile(where) : () => true;
  const work = new WorkMeter();
  const matches: Predicate = (scope) => {
    if (!where && !after) return true;
    work.begin();
    scope.work = work;
    if (!after) return truth(scope);
    return truth(scope) === true ? compareToCursor(scope.document, after, order) > 0 : false;
  };
  // Two queries that come to the same under one policy may come to different things under the next.
  const key = JSON.stringify([
    form.from,
    asked ? formatCql2Json(asked) : null,
    where && where !== asked ? formatCql2Json(where) : null,
    terms.map(formatTerm),
    limit ?? null,
    form.after ?? null,
    fields?.map(joinName) ?? null,
    lens?.key ?? null,
    includes.map(({ name, via, by, query }) => [name, via ?? null, by ?? null, query.key]),
    summary ? [summary.totals, summary.by] : null,
  ] satisfies unknown[]);
  const see = lens?.show ?? ((document: Document) => document);
  return {
    from: form.from,
    asked,
    where,
    order,
    askedOrder: terms,
    limit,
    after,
    fields,
    includes,
    summary,
    matches,
    work,
    compare,
    see,
    show: (document) => project(see(document), fields),
    whole: !fields && !lens?.show,
    key,
  };
}

function prepareIncludes(form: IncludesForm | string, lensOf: LensOf, level: number): Include[] {
  const forms = readIncludes(form);
  if (level > INCLUDE_LIMITS.levels) {
    throw new QueryError(`Includes go at most ${INCLUDE_LIMITS.levels} levels deep.`, undefined, '/include');
  }
  const make = (inner: Omit<IncludeForm, 'via' | 'by'>) => prepare(inner, lensOf, level + 1);
  return Object.keys(forms)
    .sort()
    .map((name) => {
      try {
        return readInclude(name, forms[name]!, make);
      } catch (error) {
        if (!(error instanceof QueryError)) throw error;
        const { message, position, pointer = '', expected } = error;
        // A position counts within a condition that stands alone; where it stands within a text it would mislead.
        const at = typeof form === 'string' ? undefined : position;
        throw new QueryError(`In the include ${name}: ${message}`, at, `/include/${name}${pointer}`, expected);
      }
    });
}

function readSummary({ summary, by, ...rest }: QueryForm): Summary | undefined {
  if (summary === undefined) {
    if (by !== undefined) throw new QueryError('"by" belongs to a summary.', undefined, '/by');
    return undefined;
  }
  for (const name of ['order', 'limit', 'after', 'fields', 'include'] as const) {
    if (rest[name] === undefined) continue;
    throw new QueryError(
      `A summary is over all documents of its condition; it takes no "${name}".`,
      undefined,
      `/${name}`,
    );
  }
  return parseSummary(summary, by);
}

function readWhere(where: QueryForm['where']): Node | undefined {
  if (where === undefined || where === '') return undefined;
  return typeof where === 'string' ? parseText(where) : parseCql2Json(where);
}
