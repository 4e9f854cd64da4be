import type { Document, Query } from '@uproar/core';
import { fewChangesAfter, type ReadLimits, type Store } from '../store/index.js';

/** What a view shows at one moment. */
export interface Shown {
  documents: readonly Document[];
  more: boolean;
}

/** A reading that was overtaken by commits is repeated this often before a reset is sent instead. */
export const MAX_ATTEMPTS = 4;

/**
 * What a query with a limit showed at an earlier seq: the first unchanged documents, and the changed ones in their
 * earlier state. Undefined if the journal does not reach back, or if commits arrive too fast.
 */
export async function shownAt(
  store: Store,
  query: Query & { limit: number },
  limits: ReadLimits,
  seq: number,
): Promise<Shown | undefined> {
  for (let attempt = 0; attempt < MAX_ATTEMPTS; attempt++) {
    if (!store.journal.reachesBackTo(seq)) return undefined;
    const now = store.log.seq;
    const changes = fewChangesAfter(store, query.from, seq);
    if (!changes) return undefined;
    const changed = new Map(changes.map((change) => [change.id, change.before]));
    const reading = await store.reader.read(query, query.limit, limits, (id) => changed.has(id));
    if (reading.seq !== now || store.log.seq !== now) continue;
    const documents = reading.found.map(({ document }) => document);
    for (const document of changed.values()) {
      if (document && query.matches({ document }) === true) documents.push(document);
    }
    documents.sort(query.compare);
    return { documents: documents.slice(0, query.limit), more: reading.more || documents.length > query.limit };
  }
  return undefined;
}
