import { formatTerm, formatText, formatTime, type Node, type Query } from '@uproar/core';
import type { SlowQuery } from '@uproar/protocol';
import { adviseIndex, type ReadOutcome } from '../store/index.js';

/** A query that takes at least so long is kept a note of. */
const SLOW_MS = 10;

/** The number of different queries that are kept; then the least recently seen one is dropped. */
const MAX_FORMS = 100;

/** As much of a condition is kept. */
const MAX_CHARACTERS = 500;

/** Above this ratio of documents read to documents returned, an index is worthwhile. */
const WASTEFUL = 10;

type Kept = Omit<SlowQuery, 'meanMs' | 'last'> & { totalMs: number; lastMs: number };

/** Slow queries, grouped if they differ only in values. */
export class SlowQueries {
  readonly #byForm = new Map<string, Kept>();

  /** Notes a read that took so long, the time included in which others were served. */
  note(query: Query, { plan, documentsRead, documentsReturned }: ReadOutcome, durationMs: number): void {
    if (durationMs < SLOW_MS) return;
    const form = formOf(query);
    const kept = this.#byForm.get(form);
    this.#byForm.delete(form);
    const index = plan?.index?.fields ?? null;
    const wasteful = documentsRead !== null && documentsRead >= WASTEFUL * Math.max(1, documentsReturned);
    const advised = wasteful ? adviseIndex(query) : undefined;
    this.#byForm.set(form, {
      from: query.from,
      where: query.asked ? cut(formatText(query.asked)) : null,
      order: query.order.length === 0 ? null : query.order.map(formatTerm).join(','),
      count: (kept?.count ?? 0) + 1,
      slowestMs: Math.max(kept?.slowestMs ?? 0, durationMs),
      totalMs: (kept?.totalMs ?? 0) + durationMs,
      documentsRead,
      documentsReturned,
      index,
      ...(advised && advised !== index ? { advice: `uproar index create ${query.from} '${advised}'` } : {}),
      lastMs: Date.now(),
    });
    if (this.#byForm.size > MAX_FORMS) this.#byForm.delete(this.#byForm.keys().next().value!);
  }

  /** The groups with the largest total time first. */
  list(): SlowQuery[] {
    return [...this.#byForm.values()]
      .sort((a, b) => b.totalMs - a.totalMs)
      .map(({ totalMs, lastMs, ...kept }) => ({
        ...kept,
        slowestMs: round(kept.slowestMs),
        meanMs: round(totalMs / kept.count),
        last: formatTime(lastMs),
      }));
  }
}

/** The same for queries that differ in the values they compare with alone. */
function formOf({ from, asked, order, limit }: Query): string {
  return JSON.stringify([from, asked ?? null, order, limit ?? null], (_, value: unknown) => {
    const node = value as Node | null;
    if (node === null || typeof node !== 'object') return value;
    if (node.kind === 'array' && node.items.every(({ kind }) => kind === 'literal')) return '?';
    return ['literal', 'date', 'timestamp', 'geometry', 'bbox'].includes(node.kind) ? '?' : value;
  });
}

function cut(text: string): string {
  return text.length > MAX_CHARACTERS ? `${text.slice(0, MAX_CHARACTERS)}…` : text;
}

function round(milliseconds: number): number {
  return Math.round(milliseconds * 10) / 10;
}
