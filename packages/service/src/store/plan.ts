import {
  findExactRequirements,
  findRequirements,
  indexKey,
  KIND_LIMITS,
  type Bound,
  type OrderTerm,
  type Query,
  type Requirement,
} from '@uproar/core';
import { CANDIDATE_COLUMNS } from './documents.js';
import type { IndexInfo } from './indexes.js';

/** How SQL narrows and orders the candidates of a query. */
export interface Plan {
  /** How the documents are found: one document, an index, or the whole collection in the order of ids. */
  scan: 'document' | 'index' | 'full';
  index: IndexInfo | undefined;
  /** The parts of the condition that the index is searched by, for people. */
  searchedBy: string[];
  /** True when the candidates come in the order of the query, so that reading can stop at the limit. */
  ordered: boolean;
  /** True when the index decides the condition, so that each candidate matches without being looked at. */
  decided: boolean;
  /** Reads rows of {@link CANDIDATE_COLUMNS}. */
  sql: string;
  parameters: unknown[];
}

/** Chooses how to find the candidates of a query. The condition then decides about each candidate. */
export function planQuery(query: Query, collection: number, indexes: readonly IndexInfo[]): Plan {
  const exact = query.where && findExactRequirements(query.where);
  const alternatives = query.where && findRequirements(query.where, 1);
  const requirements = exact ?? (alternatives?.length === 1 ? alternatives[0]! : []);
  const ids = requirements.find((one) => one.kind === 'equal' && one.meta && one.path[0] === 'id');
  if (ids?.kind === 'equal' && ids.values.length === 1 && typeof ids.values[0] === 'string') {
    const sql = `SELECT ${CANDIDATE_COLUMNS} FROM documents d WHERE d.collection = ? AND d.id = ?`;
    return {
      scan: 'document',
      index: undefined,
      searchedBy: ['id'],
      ordered: true,
      decided: false,
      sql,
      parameters: [collection, ids.values[0]],
    };
  }
  const plans = indexes
    .map((index) => planIndex(query, index, requirements, exact !== undefined))
    .filter((candidate) => candidate !== undefined)
    .sort((a, b) => b.score - a.score);
  return plans[0]?.plan ?? planCollection(query, collection);
}

function planCollection(query: Query, collection: number): Plan {
  const ordered = query.order.length === 0 || isById(query.order[0]!);
  const direction = ordered && query.order[0]?.descending ? 'DESC' : 'ASC';
  // A cursor in the order of ids lets SQL begin behind it.
  const after = ordered && query.after && query.order.length === 0 ? query.after.id : undefined;
  const sql = `SELECT ${CANDIDATE_COLUMNS} FROM documents d WHERE d.collection = ?${after === undefined ? '' : ' AND d.id > ?'} ORDER BY d.id ${direction}`;
  const parameters = after === undefined ? [collection] : [collection, after];
  return { scan: 'full', index: undefined, searchedBy: [], ordered, decided: false, sql, parameters };
}

function isById({ meta, path }: OrderTerm): boolean {
  return meta && path[0] === 'id';
}

function planIndex(
  query: Query,
  index: IndexInfo,
  requirements: readonly Requirement[],
  exact: boolean,
): { plan: Plan; score: number } | undefined {
  const conditions: string[] = [];
  const parameters: unknown[] = [];
  const searchedBy: string[] = [];
  const used = new Set<Requirement>();
  let depth = 0;
  let severalValues = false;
  // The leading fields that must equal something, then perhaps one that must lie in a range.
  for (; depth < index.terms.length; depth++) {
    const term = index.terms[depth]!;
    const equal = requirements.find((one) => one.kind === 'equal' && sameField(one, term));
    if (equal?.kind !== 'equal' || equal.values.length > 200) break;
    conditions.push(`i.k${depth} IN (${equal.values.map(() => '?').join(', ')})`);
    parameters.push(...equal.values.map((value) => Buffer.from(indexKey(value))));
    used.add(equal);
    searchedBy.push(`${nameOf(term)} ${equal.values.length === 1 ? '=' : 'IN'}`);
    severalValues ||= equal.values.length > 1;
  }
  const equalities = depth;
  const next = index.terms[depth];
  const range = next && requirements.find((one) => one.kind === 'range' && sameField(one, next));
  if (range?.kind === 'range') {
    addRange(range, `i.k${depth}`, conditions, parameters);
    used.add(range);
    searchedBy.push(`${nameOf(next!)} range`);
  }
  const ordered = isOrdered(query.order, index.terms, equalities, severalValues);
  const useful =
    equalities > 0 || range !== undefined || (ordered && query.order.length > 0 && query.limit !== undefined);
  if (!useful) return undefined;
  if (ordered) addCursor(query, index.terms, equalities, conditions, parameters);
  const order = ordered
    ? `ORDER BY ${[...query.order.map(({ descending }, position) => `i.k${equalities + position}${descending ? ' DESC' : ''}`), 'i.id'].join(', ')}`
    : '';
  const where = conditions.length > 0 ? `WHERE ${conditions.join(' AND ')}` : '';
  const sql = `SELECT ${CANDIDATE_COLUMNS} FROM index_${index.number} i CROSS JOIN documents d ON d.number = i.document ${where} ${order}`;
  const score = equalities * 10 + (range ? 4 : 0) + (ordered && query.limit !== undefined ? 5 : 0);
  const decided = exact && used.size === requirements.length && !query.after;
  return { plan: { scan: 'index', index, searchedBy, ordered, decided, sql, parameters }, score };
}

/** With a cursor on the first order field, SQL begins at its value; the condition decides about equal values. */
function addCursor(
  { after, order }: Query,
  terms: readonly OrderTerm[],
  equalities: number,
  conditions: string[],
  parameters: unknown[],
): void {
  const term = order[0];
  if (!after || !term || !terms[equalities]) return;
  conditions.push(`i.k${equalities} ${term.descending ? '<=' : '>='} ?`);
  parameters.push(Buffer.from(indexKey(after.values[0])));
}

/** The index gives the order of the query when, behind the fields that are fixed, its fields are those of the order. */
function isOrdered(
  order: readonly OrderTerm[],
  terms: readonly OrderTerm[],
  equalities: number,
  severalValues: boolean,
): boolean {
  if (severalValues) return false;
  if (order.length === 0) return equalities === terms.length;
  if (equalities + order.length > terms.length) return false;
  return order.every((term, position) => sameField(term, terms[equalities + position]!));
}

function addRange(
  { low, high }: Requirement & { kind: 'range' },
  column: string,
  conditions: string[],
  parameters: unknown[],
): void {
  // Values of other kinds never match, so the range ends where those of this kind do.
  const kind = KIND_LIMITS[typeof (low ?? high)!.value as 'number' | 'string'];
  const add = (operator: string, bound: Bound | undefined, limit: Uint8Array) => {
    conditions.push(`${column} ${operator}${bound && !bound.inclusive ? '' : '='} ?`);
    parameters.push(Buffer.from(bound ? indexKey(bound.value) : limit));
  };
  add('>', low, kind.from);
  add('<', high, kind.to);
}

function sameField(
  a: { meta: boolean; path: readonly string[] },
  b: { meta: boolean; path: readonly string[] },
): boolean {
  return (
    a.meta === b.meta && a.path.length === b.path.length && a.path.every((name, position) => name === b.path[position])
  );
}

function nameOf({ path, meta }: OrderTerm): string {
  return meta ? `meta('${path[0]}')` : path.join('.');
}

/** The index that would help a query most, as an order is written; undefined where none would. */
export function adviseIndex(query: Query): string | undefined {
  const requirements = (query.where && findRequirements(query.where, 1)?.[0]) ?? [];
  const equal = requirements
    .filter((one) => one.kind === 'equal' && !one.meta)
    .map((one) => nameOf({ ...one, descending: false }));
  const order = query.order
    .filter((term) => !isById(term))
    .map((term) => `${term.descending ? '-' : ''}${nameOf(term)}`);
  const range = requirements
    .filter((one) => one.kind === 'range' && !one.meta)
    .map((one) => nameOf({ ...one, descending: false }));
  const fields = [...new Set([...equal, ...(order.length > 0 ? order : range.slice(0, 1))])].slice(0, 4);
  return fields.length === 0 ? undefined : fields.join(',');
}
