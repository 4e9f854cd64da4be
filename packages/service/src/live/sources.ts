import {
  formatTime,
  patchForChanges,
  splitAddress,
  type Document,
  type DocumentChange,
  type JsonPatch,
} from '@uproar/core';
import type { CollectionSummary, WatchTarget } from '@uproar/protocol';
import { stringifyStored, type CollectionInfo, type Store } from '../store/index.js';
import type { FullState } from './live-event.js';

/** Where a view gets its state and its changes from. */
export interface Source {
  /** The same for all watches that show the same. */
  readonly key: string;
  /** The collection whose commits concern it; undefined: the list of collections itself. */
  readonly collection: string | undefined;
  /** The state now. */
  read(): FullState;
  /** What net changes of its collection do to the state. */
  patchFor(changes: readonly DocumentChange[]): JsonPatch;
  /** What altered the state after `seq`; undefined when that cannot be told any more. */
  patchSince(seq: number): JsonPatch | undefined;
}

/** Finds the source for what somebody wants to watch. */
export function sourceFor(target: WatchTarget, store: Store): Source {
  if ('query' in target) return new CollectionSource(store, target.query.from);
  if ('doc' in target) return new DocumentSource(store, target.doc);
  return new CollectionListSource(store);
}

/** All documents of a collection. */
class CollectionSource implements Source {
  readonly key: string;
  constructor(
    readonly store: Store,
    readonly collection: string,
  ) {
    this.key = JSON.stringify({ from: collection });
  }

  read(): FullState {
    const info = this.store.collections.get(this.collection);
    const documents = info ? this.store.documents.list(info.number, '', -1).map(stringifyStored) : [];
    return { seq: this.store.log.seq, documents, more: false };
  }

  patchFor(changes: readonly DocumentChange[]): JsonPatch {
    return patchForChanges(changes, () => true);
  }

  patchSince(seq: number): JsonPatch | undefined {
    return patchFromJournal(this.store, seq, this.collection, undefined, this);
  }
}

/** One document, whether it exists or not. */
class DocumentSource implements Source {
  readonly key: string;
  readonly collection: string;
  readonly id: string;
  constructor(
    readonly store: Store,
    address: string,
  ) {
    this.key = JSON.stringify({ doc: address });
    ({ collection: this.collection, id: this.id } = splitAddress(address));
  }

  read(): FullState {
    const info = this.store.collections.get(this.collection);
    const stored = info && this.store.documents.get(info.number, this.id);
    return { seq: this.store.log.seq, documents: stored ? [stringifyStored(stored)] : [], more: false };
  }

  patchFor(changes: readonly DocumentChange[]): JsonPatch {
    return patchForChanges(changes, (document) => document.id === this.id);
  }

  patchSince(seq: number): JsonPatch | undefined {
    return patchFromJournal(this.store, seq, this.collection, this.id, this);
  }
}

function patchFromJournal(
  store: Store,
  seq: number,
  collection: string,
  document: string | undefined,
  source: Source,
): JsonPatch | undefined {
  if (!store.journal.reachesBackTo(seq)) return undefined;
  const info = store.collections.get(collection);
  return info ? source.patchFor(store.journal.netChangesAfter(seq, info.number, document)) : [];
}

/**
 * The list of collections, each in the form of a document. It shows the state of the last time it was asked for
 * changes, and does not know what it was before.
 */
class CollectionListSource implements Source {
  readonly key = JSON.stringify({ collections: true });
  readonly collection = undefined;
  #shown: Map<string, Document>;
  #shownSeq: number;

  constructor(readonly store: Store) {
    this.#shown = this.#summaries();
    this.#shownSeq = store.log.seq;
  }

  read(): FullState {
    const documents = [...this.#shown.values()].map((summary) => JSON.stringify(summary));
    return { seq: this.#shownSeq, documents, more: false };
  }

  patchFor(): JsonPatch {
    const before = this.#shown;
    this.#shown = this.#summaries();
    this.#shownSeq = this.store.log.seq;
    const changes = [...this.#shown.values()].map((after) => ({
      collection: '',
      id: after.id,
      before: before.get(after.id),
      after,
    }));
    return patchForChanges(changes, () => true);
  }

  patchSince(): JsonPatch | undefined {
    return undefined;
  }

  #summaries(): Map<string, Document> {
    return new Map(this.store.collections.list().map((info) => [info.name, summarize(info) as Document]));
  }
}

/** A collection in the form of a document. */
export function summarize(info: CollectionInfo): CollectionSummary {
  return {
    id: info.name,
    version: info.version,
    created: formatTime(info.created),
    updated: formatTime(info.updated),
    data: { documents: info.documents, sizeBytes: info.sizeBytes },
  };
}
