import {
  problemError,
  readGroups,
  type UsageCounts,
  type UsageGroup,
  type UsageParameters,
  type UsageReport,
  type UsageRow,
} from '@uproar/protocol';
import type { UsageRow as RecordedRow } from '../state/records.js';
import type { Store } from '../store/index.js';

const DAY_MS = 86_400_000;

/** Without a first day, so many days before the last one are read, too. */
const USUAL_DAYS_BEFORE = 6;

/** So many groups are held in memory for one report. */
const MAX_GROUPS = 200_000;

const COUNTS = ['requests', 'reads', 'examined', 'writes', 'deliveries', 'sentBytes'] as const;
const SUMS = `
  SUM(requests) AS requests, SUM(reads) AS reads, SUM(examined) AS examined, SUM(writes) AS writes,
  SUM(deliveries) AS deliveries, SUM(sent_bytes) AS sentBytes`;
const FILTER = `
  day = :day AND (:identity IS NULL OR identity = :identity) AND (:collection IS NULL OR collection = :collection)`;
const DAYS = 'SELECT day FROM usage_days WHERE day BETWEEN ? AND ? ORDER BY day DESC';
const STORED = `
  SELECT collection, documents, size_bytes AS storedBytes FROM stored_by_day
  WHERE day = ? AND (? IS NULL OR collection = ?)`;

type Stored = { collection: string; documents: number; storedBytes: number };

/** Which groups of which usage. */
type Filter = Omit<UsageParameters, 'by'> & { by: UsageGroup[] };

/** The days that a report covers, counted since 1970. */
interface Range {
  from: number;
  to: number;
  today: number;
}

/**
 * Reads the usage day by day; other requests are served in between.
 *
 * @param waiting today's counts that are not recorded yet
 * @throws {ProblemError} `bad-request`, or `query-too-costly` for too many groups
 */
export async function readUsage(
  store: Pick<Store, 'reads' | 'collections'>,
  parameters: UsageParameters,
  nowMs: number,
  waiting: readonly RecordedRow[] = [],
): Promise<UsageReport> {
  const range = rangeOf(parameters, nowMs);
  const filter = { ...parameters, by: readGroups(parameters.by) };
  const groups = new Map<string, UsageRow>();
  const total = emptyRow();
  let lastStored: Stored[] | undefined;
  for (const day of daysOf(store, range)) {
    const unrecorded = day === range.today ? waiting.flatMap((row) => namedRow(row, day, filter)) : [];
    for (const found of [...usageOf(store, day, filter), ...unrecorded]) {
      const row = rowOf(groups, found);
      for (const name of COUNTS) {
        row[name] += found[name];
        total[name] += found[name];
      }
    }
    const stored = storedOn(store, day, range.today, parameters);
    lastStored ??= stored;
    addStored(groups, stored, day, filter, stored === lastStored);
    await new Promise((resolve) => setImmediate(resolve));
  }
  if (parameters.identity === undefined)
    for (const { documents, storedBytes } of lastStored ?? []) hold(total, documents, storedBytes);
  const rows = [...groups.values()].sort(inOrder);
  return {
    from: formatDay(range.from),
    to: formatDay(range.to),
    rows: rows.slice(0, parameters.limit),
    more: rows.length > parameters.limit,
    total,
  };
}

function rangeOf({ from, to }: UsageParameters, nowMs: number): Range {
  const today = Math.floor(nowMs / DAY_MS);
  const last = to === undefined ? today : readDay(to);
  const first = from === undefined ? last - USUAL_DAYS_BEFORE : readDay(from);
  if (first > last) throw problemError('bad-request', '"from" is after "to".', { parameter: 'from' });
  return { from: first, to: last, today };
}

/** The days on record, the newest first. Today is always one of them. */
function daysOf(store: Pick<Store, 'reads'>, { from, to, today }: Range): number[] {
  const days = store.reads
    .statement<[number, number], { day: number }>(DAYS)
    .all(from, to)
    .map(({ day }) => day);
  return from <= today && today <= to && !days.includes(today) ? [today, ...days] : days;
}

function usageOf(store: Pick<Store, 'reads'>, day: number, { by, identity, collection }: Filter): UsageRow[] {
  const columns = by.filter((name) => name !== 'day');
  const sql = `SELECT ${[...columns, SUMS].join(', ')} FROM usage WHERE ${FILTER}
    ${columns.length > 0 ? `GROUP BY ${columns.join(', ')}` : 'HAVING COUNT(*) > 0'}`;
  const parameters = { day, identity: identity ?? null, collection: collection ?? null };
  const rows = store.reads.statement<[typeof parameters], UsageRow>(sql).all(parameters);
  return by.includes('day') ? rows.map((row) => ({ day: formatDay(day), ...row })) : rows;
}

/** A stored row of counters, in the form of the report; undefined if the report leaves it out. */
function namedRow([identity, collection, ...counts]: RecordedRow, day: number, filter: Filter): UsageRow[] {
  if (filter.identity !== undefined && filter.identity !== identity) return [];
  if (filter.collection !== undefined && filter.collection !== collection) return [];
  const group = { day: formatDay(day), identity, collection };
  const names = filter.by.map((name) => [name, group[name]]);
  const named = Object.fromEntries(COUNTS.map((name, at) => [name, counts[at]!])) as UsageCounts;
  return [{ ...Object.fromEntries(names), ...named }];
}

/** The documents and bytes stored at the end of a day; for today, the present ones. */
function storedOn(
  store: Pick<Store, 'reads' | 'collections'>,
  day: number,
  today: number,
  { collection = null }: { collection?: string | null | undefined },
): Stored[] {
  if (day !== today) {
    return store.reads
      .statement<[number, string | null, string | null], Stored>(STORED)
      .all(day, collection, collection);
  }
  return [...store.collections.list()]
    .filter(({ name }) => collection === null || name === collection)
    .map(({ name, documents, sizeBytes }) => ({ collection: name, documents, storedBytes: sizeBytes }));
}

/** Adds stored documents and bytes to groups without an identity: of each day, or of the last day. */
function addStored(
  groups: Map<string, UsageRow>,
  stored: readonly Stored[],
  day: number,
  { by, identity }: Filter,
  isLast: boolean,
): void {
  if (by.includes('identity') || identity !== undefined || (!by.includes('day') && !isLast)) return;
  for (const { collection, documents, storedBytes } of stored) {
    const group = {
      ...(by.includes('day') ? { day: formatDay(day) } : {}),
      ...(by.includes('collection') ? { collection } : {}),
    };
    hold(rowOf(groups, group), documents, storedBytes);
  }
}

function hold(row: UsageRow, documents: number, storedBytes: number): void {
  row.documents = (row.documents ?? 0) + documents;
  row.storedBytes = (row.storedBytes ?? 0) + storedBytes;
}

/** The row of a group, which is added if it is new. */
function rowOf(groups: Map<string, UsageRow>, { day, identity, collection }: Partial<UsageRow>): UsageRow {
  const key = JSON.stringify([day, identity, collection]);
  let row = groups.get(key);
  if (row) return row;
  if (groups.size >= MAX_GROUPS) {
    throw problemError('query-too-costly', `This report has more than ${MAX_GROUPS} rows. Ask for fewer days.`);
  }
  const names = Object.entries({ day, identity, collection }).filter(([, value]) => value !== undefined);
  row = { ...Object.fromEntries(names), ...emptyRow() };
  groups.set(key, row);
  return row;
}

function emptyRow(): UsageCounts {
  return { requests: 0, reads: 0, examined: 0, writes: 0, deliveries: 0, sentBytes: 0 };
}

function inOrder(one: UsageRow, other: UsageRow): number {
  if (one.day !== other.day) return one.day! > other.day! ? -1 : 1;
  return other.sentBytes - one.sentBytes || (other.storedBytes ?? 0) - (one.storedBytes ?? 0);
}

function readDay(text: string): number {
  return Math.floor(Date.parse(text) / DAY_MS);
}

function formatDay(day: number): string {
  return new Date(day * DAY_MS).toISOString().slice(0, 10);
}
