import { patchForChanges, type DocumentChange, type Node, type Query, type WorkMeter } from '@uproar/core';
import { tooManyBytes } from '../limits/costs.js';
import { fewChangesAfter, type ReadLimits, type Store } from '../store/index.js';
import type { FullState } from './live-event.js';
import type { Delta, Source } from './source.js';

/** Results up to this size are read at once; larger ones with pauses. */
const READ_AT_ONCE = 2000;

/** A query without a limit. Who belongs to it follows from the documents before and after, so it keeps no state. */
export class QuerySource implements Source {
  readonly ready = true;
  readonly key: string;
  readonly collection: string;
  readonly where: Node | undefined;
  readonly meters: readonly WorkMeter[];
  #closed = false;

  constructor(
    readonly store: Store,
    readonly query: Query,
    readonly limits: ReadLimits,
  ) {
    this.key = limitedKey(query, limits);
    this.collection = query.from;
    this.where = query.where;
    this.meters = metersOf(query);
  }

  read(): FullState | Promise<FullState> {
    const reading = this.store.reader.readAtOnce(this.query, READ_AT_ONCE, { ...this.limits, whole: false });
    if (!reading || reading.more) return this.#readSlowly();
    return { seq: reading.seq, documents: reading.found.map((found) => found.textFor(this.query)), more: false };
  }

  apply(seq: number, changes: readonly DocumentChange[]): Delta {
    return {
      seq,
      patch: patchForChanges(changes, (document) => this.query.matches({ document }) === true, this.query.show),
    };
  }

  since(seq: number): Delta | undefined {
    const { journal, log } = this.store;
    if (!journal.reachesBackTo(seq)) return undefined;
    const changes = fewChangesAfter(this.store, this.collection, seq);
    return changes && this.apply(log.seq, changes);
  }

  close(): void {
    this.#closed = true;
  }

  async #readSlowly(): Promise<FullState> {
    const most = this.limits.bytes ?? Infinity;
    let seq = 0;
    let bytes = 0;
    const documents: string[] = [];
    for await (const slice of this.store.reader.streamInSlices(this.query, this.limits, (at) => (seq = at))) {
      if (this.#closed) throw new Error('The watch has ended.');
      for (const found of slice) {
        const text = found.textFor(this.query);
        if ((bytes += text.length) > most) throw tooManyBytes('The state of this watch', most);
        documents.push(text);
      }
    }
    return { seq, documents, more: false };
  }
}

/** What counts the work of a query and its includes. */
export function metersOf({ work, includes }: Query): WorkMeter[] {
  return [work, ...includes.flatMap(({ query }) => metersOf(query))];
}

/** A key that is equal for views with the same content and the same read limits. */
export function limitedKey({ key }: Query, { documents }: ReadLimits): string {
  return documents === undefined ? key : `${key}:${documents}`;
}
