import {
  compareStrings,
  formatTime,
  patchForChanges,
  prepareQuery,
  splitAddress,
  type Document,
  type DocumentChange,
  type JsonPatch,
  type Node,
} from '@uproar/core';
import type { CollectionSummary, WatchTarget } from '@uproar/protocol';
import { prepareWireQuery } from '../http/query-form.js';
import { stringifyStored, type CollectionInfo, type Store } from '../store/index.js';
import type { FullState } from './live-event.js';
import { QuerySource } from './query-source.js';
import { WindowSource } from './window-source.js';

/** What altered the state of a view. */
export interface Alteration {
  seq: number;
  patch: JsonPatch;
  /** Whether a limit cuts the state; only when that has altered. */
  more?: boolean | undefined;
}

/** Where a view gets its state and its changes from. */
export interface Source {
  /** The same for all watches that show the same. */
  readonly key: string;
  /** The collection whose commits concern it; undefined: the list of collections itself. */
  readonly collection: string | undefined;
  /** The condition that the matcher files it under; undefined: every document of the collection concerns it. */
  readonly where: Node | undefined;
  /** True when changes to come can be told without reading the state first. */
  readonly ready: boolean;
  /** The state now, or soon. It may be of a seq that has been overtaken by the time it is there. */
  read(): FullState | Promise<FullState>;
  /** What net changes of its collection do to the state; a promise when that cannot be told without reading. */
  apply(seq: number, changes: readonly DocumentChange[]): Alteration | Promise<Alteration>;
  /** What altered the state between `seq` and now; undefined when that cannot be told any more. */
  since(seq: number): Alteration | undefined | Promise<Alteration | undefined>;
}

/**
 * Finds the source for what somebody wants to watch.
 *
 * @throws {ProblemError} `bad-query`
 */
export function sourceFor(target: WatchTarget, store: Store): Source {
  if ('doc' in target) return new DocumentSource(store, target.doc);
  if ('collections' in target) return new CollectionListSource(store);
  const query = prepareWireQuery(target.query, true);
  return query.limit === undefined ? new QuerySource(store, query) : new WindowSource(store, query);
}

/** One document, whether it exists or not. */
class DocumentSource implements Source {
  readonly ready = true;
  readonly key: string;
  readonly collection: string;
  readonly where: Node;
  readonly #id: string;

  constructor(
    readonly store: Store,
    address: string,
  ) {
    this.key = JSON.stringify({ doc: address });
    ({ collection: this.collection, id: this.#id } = splitAddress(address));
    this.where = prepareQuery({ from: this.collection, where: `meta('id') = '${this.#id}'` }).where!;
  }

  read(): FullState {
    const info = this.store.collections.get(this.collection);
    const stored = info && this.store.documents.get(info.number, this.#id);
    return { seq: this.store.log.seq, documents: stored ? [stringifyStored(stored)] : [], more: false };
  }

  apply(seq: number, changes: readonly DocumentChange[]): Alteration {
    return { seq, patch: patchForChanges(changes, ({ id }) => id === this.#id) };
  }

  since(seq: number): Alteration | undefined {
    if (!this.store.journal.reachesBackTo(seq)) return undefined;
    const info = this.store.collections.get(this.collection);
    const changes = info ? this.store.journal.netChangesAfter(seq, info.number, this.#id) : [];
    return this.apply(this.store.log.seq, changes);
  }
}

/**
 * The list of collections, each in the form of a document. It shows the state of the last time it was asked for
 * changes, and does not know what it was before.
 */
class CollectionListSource implements Source {
  readonly ready = true;
  readonly key = JSON.stringify({ collections: true });
  readonly collection = undefined;
  readonly where = undefined;
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

  apply(seq: number): Alteration {
    const before = this.#shown;
    this.#shown = this.#summaries();
    this.#shownSeq = seq;
    const changes = [...this.#shown.values()]
      .sort((a, b) => compareStrings(a.id, b.id))
      .map((after) => ({ collection: '', id: after.id, before: before.get(after.id), after }));
    return { seq, patch: patchForChanges(changes, () => true) };
  }

  since(): undefined {
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
