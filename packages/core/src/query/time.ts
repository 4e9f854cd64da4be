/** A span of time in milliseconds since 1970; an instant begins and ends at the same moment. */
export interface Span {
  from: number;
  to: number;
}

const DAY_MS = 86_400_000;
const DATE = /^\d{4}-\d{2}-\d{2}$/;
const TIMESTAMP = /^\d{4}-\d{2}-\d{2}[Tt]\d{2}:\d{2}:\d{2}(?:\.\d+)?(?:[Zz]|[+-]\d{2}:\d{2})$/;

/** The moment of an RFC 3339 date and time, in milliseconds since 1970; undefined for any other text. */
export function parseTimestamp(text: string): number | undefined {
  if (!TIMESTAMP.test(text)) return undefined;
  const timeMs = Date.parse(text.toUpperCase());
  return Number.isNaN(timeMs) || !isRealDay(text) ? undefined : timeMs;
}

/** The first moment (UTC) of an RFC 3339 full-date; undefined for any other text. */
export function parseDate(text: string): number | undefined {
  if (!DATE.test(text) || !isRealDay(text)) return undefined;
  const timeMs = Date.parse(`${text}T00:00:00Z`);
  return Number.isNaN(timeMs) ? undefined : timeMs;
}

/** The language's own parser takes February 30 for March 1. */
function isRealDay(text: string): boolean {
  const [year, month, day] = text.slice(0, 10).split('-').map(Number) as [number, number, number];
  return month >= 1 && month <= 12 && day >= 1 && day <= new Date(Date.UTC(year, month, 0)).getUTCDate();
}

/** The span a date covers: its whole day in UTC. */
export function spanOfDate(timeMs: number): Span {
  return { from: timeMs, to: timeMs + DAY_MS - 1 };
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
