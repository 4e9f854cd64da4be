import { parseDate, parseTimestamp } from './time.js';
import { QueryError, type Node } from './tree.js';

/**
 * Reads a date or a time.
 *
 * @param word which of the two is wanted; either when undefined
 */
export function readInstant(word: 'DATE' | 'TIMESTAMP' | undefined, text: string, at?: number, pointer?: string): Node {
  const day = word === 'TIMESTAMP' ? undefined : parseDate(text);
  if (day !== undefined) return { kind: 'date', text, instant: day, at };
  const moment = word === 'DATE' ? undefined : parseTimestamp(text);
  if (moment !== undefined) return { kind: 'timestamp', text, instant: moment, at };
  const form = word === 'DATE' ? "a date like '2026-06-12'" : "a time like '2026-06-12T04:30:00Z'";
  throw new QueryError(`"${text}" is not ${form}.`, at, pointer, [form]);
}
