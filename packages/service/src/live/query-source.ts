import { patchForChanges, type DocumentChange, type Node, type Query } from '@uproar/core';
import { stringifyStored, type Found, type ReadLimits, type Store } from '../store/index.js';
import type { FullState } from './live-event.js';
import type { Alteration, Source } from './sources.js';

/** Results up to this size are read in one go; larger ones with pauses. */
const READ_AT_ONCE = 2000;

/** A query without a limit. Who belongs to it follows from the documents before and after, so it keeps no state. */
export class QuerySource implements Source {
  readonly ready = true;
  readonly key: string;
  readonly collection: string;
  readonly where: Node | undefined;

  constructor(
    readonly store: Store,
    readonly query: Query,
    readonly limits: ReadLimits,
  ) {
    this.key = limitedKey(query, limits);
    this.collection = query.from;
    this.where = query.where;
  }

  read(): FullState | Promise<FullState> {
    const reading = this.store.reader.readAtOnce(this.query, READ_AT_ONCE);
    if (!reading || reading.more) return this.#readSlowly();
    return { seq: reading.seq, documents: reading.found.map((found) => writeFound(found, this.query)), more: false };
  }

  apply(seq: number, changes: readonly DocumentChange[]): Alteration {
    return {
      seq,
      patch: patchForChanges(changes, (document) => this.query.matches({ document }) === true, this.query.show),
    };
  }

  since(seq: number): Alteration | undefined {
    const { journal, collections, log } = this.store;
    if (!journal.reachesBackTo(seq)) return undefined;
    const info = collections.get(this.collection);
    return this.apply(log.seq, info ? journal.netChangesAfter(seq, info.number) : []);
  }

  async #readSlowly(): Promise<FullState> {
    let seq = 0;
    const documents: string[] = [];
    const stream = this.store.reader.stream(this.query, this.limits, (at) => (seq = at));
    for await (const found of stream) documents.push(writeFound(found, this.query));
    return { seq, documents, more: false };
  }
}

/** Tells views apart by what they show, and by how much may be read for them. */
export function limitedKey({ key }: Query, { documents }: ReadLimits): string {
  return documents === undefined ? key : `${key}:${documents}`;
}

/** A document that was found, as the query shows it: as JSON text. */
export function writeFound({ stored, document, related }: Found, query: Query): string {
  const text = query.whole ? stringifyStored(stored) : JSON.stringify(query.show(document));
  return related ? `${text.slice(0, -1)},"related":${JSON.stringify(related)}}` : text;
}
