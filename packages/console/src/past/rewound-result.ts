import type { Document } from '@uproar/client';
import { SummaryState, type Query } from '@uproar/core';
import type { JournalEvent } from '@uproar/protocol';

/** A change of the result's collection. */
export type Change = Pick<JournalEvent, 'seq' | 'time' | 'subject' | 'identity' | 'type'> & {
  id: string;
  before: Document | undefined;
  after: Document | undefined;
};

/** The changes of a page of the journal that begins with the newest, the oldest first. Within a commit they keep their order. */
export function changesOf(events: readonly JournalEvent[]): Change[] {
  return events
    .map(({ seq, time, subject, identity, type, data }) => {
      const id = subject.slice(subject.indexOf('/') + 1);
      const [before, after] = [data.before ?? undefined, data.after ?? undefined];
      return { seq, time, subject, identity, type, id, before, after };
    })
    .sort((a, b) => a.seq - b.seq);
}

/**
 * A result that can be moved back and forth over changes. It begins with all documents that match the query at its newest
 * moment, and takes changes back, or makes them again.
 */
export class RewoundResult {
  readonly #query: Query;
  /** The matching documents, in order. */
  #documents: Document[];
  /** Ascending. */
  #changes: Change[] = [];
  #position = 0;

  /** @param documents all documents that match the query at the newest moment, whatever its limit */
  constructor(query: Query, documents: readonly Document[]) {
    this.#query = query;
    this.#documents = [...documents].sort(query.compare);
  }

  /** The known changes, the oldest first. */
  get changes(): readonly Change[] {
    return this.#changes;
  }

  /** How many of the known changes are made; all of them at the newest moment. */
  get position(): number {
    return this.#position;
  }

  /** The result at the present position, as the query shows it. */
  get documents(): Document[] {
    const { summary, limit, show } = this.#query;
    if (!summary) return this.#documents.slice(0, limit).map(show);
    const state = new SummaryState(this.#query);
    for (const document of this.#documents) state.add(document);
    return state.documents();
  }

  /** Adds changes from before the known ones, the oldest first. */
  prepend(changes: readonly Change[]): void {
    this.#changes = [...changes, ...this.#changes];
    this.#position += changes.length;
  }

  /**
   * Moves to another position.
   *
   * @returns the previous state of the documents that changed on the way; undefined for those that were not in the result
   */
  moveTo(position: number): Map<string, Document | undefined> {
    const to = Math.max(0, Math.min(this.#changes.length, position));
    const back = to < this.#position;
    const passed = this.#changes.slice(Math.min(to, this.#position), Math.max(to, this.#position));
    if (back) passed.reverse();
    this.#position = to;
    const states = new Map<string, Document | undefined>();
    for (const { id, before, after } of passed) states.set(id, back ? before : after);
    const earlier = new Map<string, Document | undefined>([...states.keys()].map((id) => [id, undefined]));
    const kept = this.#documents.filter((document) => {
      if (!states.has(document.id)) return true;
      earlier.set(document.id, document);
      return false;
    });
    const entering = [...states.values()]
      .filter((document): document is Document => document !== undefined && this.#query.matches({ document }) === true)
      .sort(this.#query.compare);
    this.#documents = merge(kept, entering, this.#query.compare);
    return earlier;
  }
}

/** Two ordered lists as one. */
function merge(a: readonly Document[], b: readonly Document[], compare: Query['compare']): Document[] {
  if (b.length === 0) return [...a];
  const merged: Document[] = [];
  let at = 0;
  for (const document of a) {
    while (at < b.length && compare(b[at]!, document) < 0) merged.push(b[at++]!);
    merged.push(document);
  }
  return [...merged, ...b.slice(at)];
}
