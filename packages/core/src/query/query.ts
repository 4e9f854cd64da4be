import { isCollectionName, type Document } from '../document/document.js';
import { formatCql2Json, parseCql2Json } from './cql2-json.js';
import { compareToCursor, readCursor } from './cursor.js';
import { compile, type Predicate } from './evaluate.js';
import { INCLUDE_LIMITS, readInclude, readIncludes } from './include.js';
import { type Include, type Query, type PolicyFilter } from './prepared-query.js';
import { type IncludeForm, type IncludesForm, type QueryForm } from './query-form.js';
import { joinName } from './names.js';
import { compareBy, formatTerm, parseOrder } from './order-terms.js';
import { parseText } from './parse-text.js';
import { project, readFields } from './projection.js';
import { parseSummary, type Summary } from './summary.js';
import { QueryError, type Node } from './tree.js';
import { WorkMeter } from './work.js';

/** Results are cut to this many documents unless the query says otherwise. */
export const DEFAULT_LIMIT = 500;
export const MAX_LIMIT = 10_000;

/** Returns the filter for a collection; undefined if the caller sees all of it. */
export type PolicyFilterOf = (collection: string) => PolicyFilter | undefined;

/**
 * Prepares a query.
 *
 * @param policyFilterOf returns the filter of the caller for a collection
 * @throws {QueryError} with the position in `where`, or a message that names the part
 */
export function prepareQuery(form: QueryForm, policyFilterOf: PolicyFilterOf = () => undefined): Query {
  return prepare(form, policyFilterOf, 1);
}

function prepare(form: QueryForm, policyFilterOf: PolicyFilterOf, level: number): Query {
  if (!isCollectionName(form.from))
    throw new QueryError(`"${form.from}" is not a valid collection name.`, undefined, '/from');
  const policyFilter = policyFilterOf(form.from);
  const asked = readWhere(form.where);
  const where = policyFilter ? policyFilter.where(asked) : asked;
  const summary = readSummary(form);
  const terms = form.order === undefined ? [] : parseOrder(form.order);
  const order = policyFilter ? policyFilter.order(terms) : terms;
  const limit = summary || form.limit === 'none' ? undefined : (form.limit ?? DEFAULT_LIMIT);
  if (limit !== undefined && (!Number.isInteger(limit) || limit < 1 || limit > MAX_LIMIT)) {
    throw new QueryError(`The limit is a whole number from 1 to ${MAX_LIMIT}, or "none".`, undefined, '/limit');
  }
  const ordered = form.ordered ?? false;
  if (ordered && limit === undefined) {
    throw new QueryError('A watch carries the order only of a query with a limit.', undefined, '/ordered');
  }
  const after = form.after === undefined ? undefined : readCursor(form.after, order);
  const fields = form.fields === undefined ? undefined : readFields(form.fields, terms);
  const includes = form.include === undefined ? [] : prepareIncludes(form.include, policyFilterOf, level);
  const compare = compareBy(order);
  // Compiled here to find its faults. Most watches rest, and the compiled condition is larger than all else of a query.
  if (where) compile(where);
  let truth: Predicate | undefined;
  const work = new WorkMeter();
  const matches: Predicate = (scope) => {
    if (!where && !after) return true;
    work.begin();
    scope.work = work;
    truth ??= where ? compile(where) : () => true;
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
    ordered,
    form.after ?? null,
    fields?.map(joinName) ?? null,
    policyFilter?.key ?? null,
    includes.map(({ name, via, by, query }) => [name, via ?? null, by ?? null, query.key]),
    summary ? [summary.totals, summary.by] : null,
  ] satisfies unknown[]);
  const see = policyFilter?.show ?? ((document: Document) => document);
  return {
    from: form.from,
    asked,
    where,
    order,
    askedOrder: terms,
    limit,
    ordered,
    after,
    fields,
    includes,
    summary,
    matches,
    work,
    compare,
    see,
    show: (document) => project(see(document), fields),
    whole: !fields && !policyFilter?.show,
    key,
  };
}

function prepareIncludes(form: IncludesForm | string, policyFilterOf: PolicyFilterOf, level: number): Include[] {
  const forms = readIncludes(form);
  if (level > INCLUDE_LIMITS.levels) {
    throw new QueryError(`Includes can be nested ${INCLUDE_LIMITS.levels} levels deep.`, undefined, '/include');
  }
  const make = (inner: Omit<IncludeForm, 'via' | 'by'>) => prepare(inner, policyFilterOf, level + 1);
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
  for (const name of ['order', 'limit', 'ordered', 'after', 'fields', 'include'] as const) {
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
