import { compareStrings, patchForChanges, type DocumentChange } from '@uproar/core';
import type { CollectionSummary } from '@uproar/protocol';
import { listCollections } from '../reading/list-collections.js';
import type { ReadScope } from '../reading/read-scope.js';
import type { Store } from '../store/index.js';
import type { FullState } from './live-event.js';
import type { Delta, Source } from './source.js';

/**
 * The list of collections, each in the form of a document. It keeps the state of the last change, and does not know
 * earlier states.
 */
export class CollectionListSource implements Source {
  readonly ready = true;
  readonly key: string;
  readonly collection = undefined;
  readonly where = undefined;
  #shown: Map<string, CollectionSummary>;
  #shownSeq: number;

  constructor(
    readonly store: Store,
    readonly scope: ReadScope,
  ) {
    this.key = JSON.stringify({ collections: scope.key });
    this.#shown = this.#summaries();
    this.#shownSeq = store.log.seq;
  }

  get seq(): number {
    return this.#shownSeq;
  }

  read(): FullState {
    const documents = [...this.#shown.values()].map((summary) => JSON.stringify(summary));
    return { seq: this.#shownSeq, documents, more: false };
  }

  apply(seq: number): Delta {
    const before = this.#shown;
    this.#shown = this.#summaries();
    this.#shownSeq = seq;
    const changes = [...this.#shown.values()]
      .sort((a, b) => compareStrings(a.id, b.id))
      .map((after) => ({ collection: '', id: after.id, before: before.get(after.id), after }) as DocumentChange);
    return { seq, patch: patchForChanges(changes, () => true) };
  }

  since(): undefined {
    return undefined;
  }

  #summaries(): Map<string, CollectionSummary> {
    return new Map(listCollections(this.store, this.scope).map((summary) => [summary.id, summary]));
  }
}
