import {
  compareStrings,
  formatCql2Json,
  formatTime,
  patchForChanges,
  prepareQuery,
  sees,
  seesEverything,
  splitAddress,
  withoutFields,
  type Access,
  type Document,
  type DocumentChange,
  type InterestListener,
  type JsonPatch,
  type Node,
  type WorkMeter,
} from '@uproar/core';
import type { CollectionSummary, WatchTarget } from '@uproar/protocol';
import { prepareReadable } from '../http/query-form.js';
import {
  readStored,
  stringifyStored,
  type CollectionInfo,
  type ReadLimits,
  type Store,
  type StoredDocument,
} from '../store/index.js';
import type { FullState } from './live-event.js';
import { QuerySource } from './query-source.js';
import { isLimited, RelatedSource } from './related-source.js';
import { SummarySource } from './summary-source.js';
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
  /** Tells where else than in its collection changes concern it; called before anything is read. */
  listen?(listener: InterestListener): void;
  /** Ends all that it told of in this way. */
  close?(): void;
  /** The state that it is at, where it follows commits with a delay; otherwise it is at that of the store. */
  readonly seq?: number;
  /** Counts the work of its conditions, where it has any. */
  readonly meters?: readonly WorkMeter[];
  /** True where it holds documents or totals in memory. */
  readonly holds?: boolean;
  /** What altered the state between `seq` and now; undefined when that cannot be told any more. */
  since(seq: number): Alteration | undefined | Promise<Alteration | undefined>;
}

/** In whose name something is watched. */
export interface Viewer {
  /**
   * What they may read of a collection.
   *
   * @throws {ProblemError} `not-allowed` when that is nothing
   */
  accessTo(collection: string): Access;
  /** As {@link accessTo}, without an error. */
  glimpse(collection: string): Access;
  /** The same for all who see the same of the list of collections. */
  readonly key: string;
  /** The collections that the policy names, whether there is anything in them or not. */
  readonly named: Iterable<string>;
  readonly limits: ReadLimits;
  /** For whom what is held is counted, and the work of watches. */
  readonly holder: string;
}

/**
 * Finds the source for what somebody wants to watch.
 *
 * @throws {ProblemError} `bad-query`, or `not-allowed`
 */
export function sourceFor(target: WatchTarget, store: Store, viewer: Viewer): Source {
  if ('doc' in target) return new DocumentSource(store, target.doc, viewer);
  if ('collections' in target) return new CollectionListSource(store, viewer);
  const query = prepareReadable(target.query, true, store, viewer);
  if (query.summary) return new SummarySource(store, query, viewer.limits);
  if (query.includes.length > 0) return new RelatedSource(store, query, viewer.limits);
  return isLimited(query)
    ? new WindowSource(store, query, viewer.limits)
    : new QuerySource(store, query, viewer.limits);
}

/** One document, whether it exists or not. */
class DocumentSource implements Source {
  readonly ready = true;
  readonly key: string;
  readonly collection: string;
  readonly where: Node;
  readonly #id: string;
  readonly #access: Access;

  constructor(
    readonly store: Store,
    address: string,
    viewer: Viewer,
  ) {
    ({ collection: this.collection, id: this.#id } = splitAddress(address));
    this.#access = viewer.accessTo(this.collection);
    const { read, conceal } = this.#access;
    this.key = JSON.stringify({ doc: address, read: typeof read === 'boolean' ? read : formatCql2Json(read), conceal });
    this.where = prepareQuery({ from: this.collection, where: `meta('id') = '${this.#id}'` }).where!;
  }

  read(): FullState {
    const info = this.store.collections.get(this.collection);
    const stored = info && this.store.documents.get(info.number, this.#id);
    const seen = stored && seenDocument(stored, this.#access);
    return { seq: this.store.log.seq, documents: seen === undefined ? [] : [seen], more: false };
  }

  apply(seq: number, changes: readonly DocumentChange[]): Alteration {
    const belongs = (document: Document) => document.id === this.#id && sees(this.#access, document);
    return {
      seq,
      patch: patchForChanges(changes, belongs, (document) => withoutFields(document, this.#access.conceal)),
    };
  }

  since(seq: number): Alteration | undefined {
    if (!this.store.journal.reachesBackTo(seq)) return undefined;
    const info = this.store.collections.get(this.collection);
    const changes = info ? this.store.journal.fewChangesAfter(seq, info.number, this.#id) : [];
    return changes && this.apply(this.store.log.seq, changes);
  }
}

/** A stored document as JSON text, as somebody sees it; undefined where they do not. */
export function seenDocument(stored: StoredDocument, access: Access): string | undefined {
  if (seesEverything(access)) return stringifyStored(stored);
  const document = readStored(stored);
  return sees(access, document) ? JSON.stringify(withoutFields(document, access.conceal)) : undefined;
}

/**
 * The list of collections, each in the form of a document. It shows the state of the last time it was asked for
 * changes, and does not know what it was before.
 */
class CollectionListSource implements Source {
  readonly ready = true;
  readonly key: string;
  readonly collection = undefined;
  readonly where = undefined;
  #shown: Map<string, CollectionSummary>;
  #shownSeq: number;

  constructor(
    readonly store: Store,
    readonly viewer: Viewer,
  ) {
    this.key = JSON.stringify({ collections: viewer.key });
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

  apply(seq: number): Alteration {
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
    return new Map(listCollections(this.store, this.viewer).map((summary) => [summary.id, summary]));
  }
}

/**
 * The collections as somebody sees them. Of those in which something may be hidden from them only the names are told, and
 * those alone that the policy names, so that nothing follows from what is in them.
 */
export function listCollections(store: Store, viewer: Viewer): CollectionSummary[] {
  const summaries = new Map<string, CollectionSummary>();
  for (const name of viewer.named) {
    const { read } = viewer.glimpse(name);
    if (typeof read !== 'boolean') summaries.set(name, { id: name, data: {} });
  }
  for (const info of store.collections.list()) {
    const { read, conceal } = viewer.glimpse(info.name);
    if (read === true) summaries.set(info.name, summarize(info, conceal.length === 0));
  }
  return [...summaries.values()].sort((a, b) => compareStrings(a.id, b.id));
}

/** A collection in the form of a document. */
function summarize(info: CollectionInfo, withSize: boolean): CollectionSummary {
  return {
    id: info.name,
    version: info.version,
    created: formatTime(info.created),
    updated: formatTime(info.updated),
    data: { documents: info.documents, ...(withSize ? { sizeBytes: info.sizeBytes } : {}) },
  };
}
