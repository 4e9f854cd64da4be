import {
  formatCql2Json,
  patchForChanges,
  prepareQuery,
  sees,
  splitAddress,
  withoutFields,
  type Access,
  type Document,
  type DocumentChange,
  type Node,
} from '@uproar/core';
import type { ReadScope } from '../reading/read-scope.js';
import { seenDocument } from '../reading/visible-document.js';
import { findStored, fewChangesAfter, type Store } from '../store/index.js';
import type { FullState } from './live-event.js';
import type { Delta, Source } from './source.js';

/** One document, whether it exists or not. */
export class DocumentSource implements Source {
  readonly ready = true;
  readonly key: string;
  readonly collection: string;
  readonly where: Node;
  readonly #id: string;
  readonly #access: Access;

  constructor(
    readonly store: Store,
    address: string,
    scope: ReadScope,
  ) {
    ({ collection: this.collection, id: this.#id } = splitAddress(address));
    this.#access = scope.accessTo(this.collection);
    const { read, conceal } = this.#access;
    this.key = JSON.stringify({ doc: address, read: typeof read === 'boolean' ? read : formatCql2Json(read), conceal });
    this.where = prepareQuery({ from: this.collection, where: `meta('id') = '${this.#id}'` }).where!;
  }

  read(): FullState {
    const stored = findStored(this.store, this.collection, this.#id);
    const seen = stored && seenDocument(stored, this.#access);
    return { seq: this.store.log.seq, documents: seen === undefined ? [] : [seen], more: false };
  }

  apply(seq: number, changes: readonly DocumentChange[]): Delta {
    const belongs = (document: Document) => document.id === this.#id && sees(this.#access, document);
    return {
      seq,
      patch: patchForChanges(changes, belongs, (document) => withoutFields(document, this.#access.conceal)),
    };
  }

  since(seq: number): Delta | undefined {
    if (!this.store.journal.reachesBackTo(seq)) return undefined;
    const changes = fewChangesAfter(this.store, this.collection, seq, this.#id);
    return changes && this.apply(this.store.log.seq, changes);
  }
}
