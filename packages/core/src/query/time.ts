/**
 * A time in picoseconds since 1970. Times may be finer than a millisecond, which a double cannot represent; digits
 * below a picosecond are dropped.
 */
export type Instant = bigint;

/** A span of time; an instant begins and ends at the same moment, and an open end is infinite. */
export interface Span {
  from: Instant | number;
  to: Instant | number;
}

const PER_MS = 1_000_000_000n;
const DAY = 86_400_000n * PER_MS;
const DATE = /^\d{4}-\d{2}-\d{2}$/;
const TIMESTAMP = /^\d{4}-\d{2}-\d{2}[Tt](?:[01]\d|2[0-3]):\d{2}:\d{2}(\.\d+)?(?:[Zz]|[+-]\d{2}:\d{2})$/;

/** The moment of an RFC 3339 date and time; undefined for any other text. */
export function parseTimestamp(text: string): Instant | undefined {
  const match = text.length > 100 ? null : TIMESTAMP.exec(text);
  if (!match || !isRealDay(text)) return undefined;
  const fraction = match[1] ?? '';
  const seconds = Date.parse(text.replace(fraction, '').toUpperCase());
  if (Number.isNaN(seconds)) return undefined;
  return BigInt(seconds) * PER_MS + BigInt(fraction.slice(1, 13).padEnd(12, '0'));
}

/** The first moment (UTC) of an RFC 3339 full-date; undefined for any other text. */
export function parseDate(text: string): Instant | undefined {
  if (!DATE.test(text) || !isRealDay(text)) return undefined;
  const timeMs = Date.parse(`${text}T00:00:00Z`);
  return Number.isNaN(timeMs) ? undefined : BigInt(timeMs) * PER_MS;
}

/** The language's own parser takes February 30 for March 1. */
function isRealDay(text: string): boolean {
  const [year, month, day] = text.slice(0, 10).split('-').map(Number) as [number, number, number];
  return month >= 1 && month <= 12 && day >= 1 && day <= new Date(Date.UTC(year, month, 0)).getUTCDate();
}

/** The span a date covers: its whole day in UTC. */
export function spanOfDate(date: Instant): Span {
  return { from: date, to: date + DAY - 1n };
}

/** The span of an RFC 3339 text: a moment, or a whole day. */
export function parseSpan(text: string): Span | undefined {
  const moment = parseTimestamp(text);
  if (moment !== undefined) return { from: moment, to: moment };
  const day = parseDate(text);
  return day === undefined ? undefined : spanOfDate(day);
}

/** The relations between two spans (CQL2, section 7.9; after Allen's interval algebra), by operator. */
export const RELATIONS: Readonly<Record<string, (a: Span, b: Span) => boolean>> = {
  t_after: (a, b) => a.from > b.to,
  t_before: (a, b) => a.to < b.from,
  t_contains: (a, b) => a.from < b.from && a.to > b.to,
  t_disjoint: (a, b) => a.to < b.from || a.from > b.to,
  t_during: (a, b) => a.from > b.from && a.to < b.to,
  t_equals: (a, b) => a.from === b.from && a.to === b.to,
  t_finishedby: (a, b) => a.from < b.from && a.to === b.to,
  t_finishes: (a, b) => a.from > b.from && a.to === b.to,
  t_intersects: (a, b) => a.from <= b.to && a.to >= b.from,
  t_meets: (a, b) => a.to === b.from,
  t_metby: (a, b) => a.from === b.to,
  t_overlappedby: (a, b) => a.from > b.from && a.from < b.to && a.to > b.to,
  t_overlaps: (a, b) => a.from < b.from && a.to > b.from && a.to < b.to,
  t_startedby: (a, b) => a.from === b.from && a.to > b.to,
  t_starts: (a, b) => a.from === b.from && a.to < b.to,
};
