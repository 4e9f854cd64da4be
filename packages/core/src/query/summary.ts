import { joinName, splitName } from './names.js';
import { splitList } from './order-terms.js';
import { QueryError } from './tree.js';

/** The totals of a summary. */
export const TOTALS = ['count', 'sum', 'avg', 'min', 'max'] as const;
export type TotalName = (typeof TOTALS)[number];

/** One total of a summary. */
export interface Total {
  /** The name of the total: its own name, or its text: `sum(passengers)`. */
  readonly name: string;
  readonly total: TotalName;
  /** The field it is of; undefined for the count of documents. */
  readonly path: readonly string[] | undefined;
}

/** Totals over the documents of a query, for each group of them. */
export interface Summary {
  readonly totals: readonly Total[];
  /** The fields whose values make a group; none: all are one group. */
  readonly by: readonly (readonly string[])[];
}

const MAX_TOTALS = 20;
const MAX_BY = 4;
const PATTERN = /^\s*(?:([A-Za-z_][A-Za-z0-9_]*)\s*=\s*)?([A-Za-z]+)\s*\(\s*(.*?)\s*\)\s*$/s;

/**
 * Reads totals such as `count(), sum(passengers), highest = max(altitude)` and the fields to group by.
 *
 * @throws {QueryError}
 */
export function parseSummary(text: string, by: string | undefined): Summary {
  const totals = splitList(text).map(parseTotal);
  if (totals.length > MAX_TOTALS) throw fail(`A summary has at most ${MAX_TOTALS} totals.`);
  const names = by === undefined || by.trim() === '' ? [] : splitList(by).map((name) => name.trim());
  if (names.some((name) => name === ''))
    throw new QueryError('The list of fields has an empty part.', undefined, '/by');
  if (names.length > MAX_BY) throw new QueryError(`A summary is by at most ${MAX_BY} fields.`, undefined, '/by');
  const paths = names.map(splitName);
  const taken = new Set(paths.map((path) => path[0]));
  if (new Set(paths.map(joinName)).size < paths.length) {
    throw new QueryError('The same field stands twice in "by".', undefined, '/by');
  }
  for (const { name } of totals) {
    if (taken.has(name))
      throw fail(`There are two parts called "${name}"; give one another name, as in "other = count()".`);
    taken.add(name);
  }
  return { totals, by: paths };
}

function parseTotal(text: string): Total {
  const [, own, word = '', field = ''] = PATTERN.exec(text) ?? [];
  const total = word.toLowerCase() as TotalName;
  if (!TOTALS.includes(total)) {
    throw fail(
      `"${text.trim()}" is no total.`,
      [...TOTALS].map((name) => (name === 'count' ? 'count()' : `${name}(field)`)),
    );
  }
  if (field === '' && total !== 'count') throw fail(`${total}() needs a field.`, [`${total}(field)`]);
  const path = field === '' ? undefined : splitName(field);
  return { name: own ?? `${total}(${path ? joinName(path) : ''})`, total, path };
}

function fail(message: string, expected: string[] = []): QueryError {
  return new QueryError(message, undefined, '/summary', expected);
}
