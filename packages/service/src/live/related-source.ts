import {
  EarlierRelations,
  RelatedTree,
  showRelated,
  PatchTracker,
  type Document,
  type DocumentChange,
  type DependencyListener,
  type Node,
  type Query,
  type WorkMeter,
  type Window,
} from '@uproar/core';
import { tooManyBytes } from '../limits/costs.js';
import { changesAfter, StoredRelations, type ReadLimits, type Store } from '../store/index.js';
import { MAX_ATTEMPTS, shownAt } from './earlier.js';
import type { FullState } from './live-event.js';
import { withOrder } from './ordered-state.js';
import { limitedKey, metersOf } from './query-source.js';
import type { Delta, Source } from './source.js';
import { windowOf } from './window-source.js';

/** Results up to this size are read at once; larger ones with pauses. */
const READ_AT_ONCE = 2000;

/** Related documents are looked up at once for this many documents. */
const RELATE_AT_ONCE = 100;

/** Looking up related documents pauses after this many milliseconds. */
const SLICE_MS = 8;

/** An earlier state is computed for views of at most this many documents, from at most this many changes. */
const MAX_EARLIER_DOCUMENTS = 2000;
const MAX_EARLIER_CHANGES = 2000;

/**
 * A query with includes. It holds the documents and their related documents, and follows the changes of exactly these.
 * It reads the store again only where a limit has to be filled.
 */
export class RelatedSource implements Source {
  readonly key: string;
  readonly collection: string;
  readonly where: Node | undefined;
  readonly meters: readonly WorkMeter[];
  readonly holds = true;
  readonly #query: Query;
  /** The query without its includes. */
  readonly #bare: Query;
  readonly #window: Window | undefined;
  #relations: StoredRelations;
  #tree: RelatedTree;
  #listener: DependencyListener = { begin: () => undefined, end: () => undefined };
  #state: 'unread' | 'reading' | 'relating' | 'live' = 'unread';
  #loading: Promise<void> | undefined;
  /** Documents that are shown, but that nothing was looked up for yet. */
  readonly #waiting = new Map<string, Document>();
  /** Whether changes left too little in the window while it was being related. */
  #lost = false;
  /** Whether the tree is new and has not been sent to any watcher. */
  #fresh = true;
  #toldMore = false;
  /** The documents of the last change, in order; kept only for a query with `ordered`. */
  #toldRoots: readonly Document[] = [];
  #closed = false;

  constructor(
    readonly store: Store,
    query: Query,
    readonly limits: ReadLimits,
  ) {
    this.key = limitedKey(query, limits);
    this.collection = query.from;
    this.where = query.where;
    this.meters = metersOf(query);
    this.#query = query;
    this.#bare = { ...query, includes: [] };
    this.#window = isLimited(query) ? windowOf(query) : undefined;
    this.#relations = new StoredRelations(store, store.reader.rows, false, limits);
    this.#tree = new RelatedTree(query, this.#relations, this.#listener);
  }

  get ready(): boolean {
    return this.#state === 'live';
  }

  listen(listener: DependencyListener): void {
    this.#listener = listener;
  }

  close(): void {
    this.#closed = true;
    this.#waiting.clear();
    this.#tree.clear();
  }

  read(): FullState | Promise<FullState> {
    if (this.ready) return this.#fullState();
    const loading = this.#load();
    return loading ? loading.then(() => this.#fullState()) : this.#fullState();
  }

  apply(seq: number, changes: readonly DocumentChange[]): Delta | Promise<Delta> {
    if (this.#state === 'unread') return { seq, patch: [] };
    try {
      const concerned = this.#tree.findAffected(changes);
      // The reading in progress will include the changes of the documents themselves.
      const enough = this.#state === 'reading' || this.#followRoots(changes);
      this.#tree.follow(concerned);
      if (this.#state !== 'live') {
        this.#lost ||= !enough;
        return { seq, patch: [] };
      }
      if (enough) return this.#delta(seq);
      const loading = this.#load();
      return loading ? loading.then(() => this.#delta(this.store.log.seq)) : this.#delta(seq);
    } catch (error) {
      this.#state = 'unread';
      throw error;
    }
  }

  async since(seq: number): Promise<Delta | undefined> {
    for (let attempt = 0; attempt < MAX_ATTEMPTS; attempt++) {
      await this.read();
      const now = this.store.log.seq;
      if (!this.store.journal.reachesBackTo(seq)) return undefined;
      const found = [...collectionsOf(this.#query)].map((name) => changesAfter(this.store, name, seq));
      if (found.includes(undefined)) return undefined;
      const changes = found.flatMap((ofOne) => ofOne!);
      const before = await this.#rootsAt(seq, changes);
      if (!before || changes.length > MAX_EARLIER_CHANGES) return undefined;
      if (!this.ready || this.store.log.seq !== now) continue;
      const relations = new EarlierRelations(
        new StoredRelations(this.store, this.store.reader.rows, true, this.limits),
        changes,
      );
      const tracker = new PatchTracker();
      for (const document of before.documents) tracker.set(showRelated(document, this.#query, relations));
      for (const { id } of this.#tree.documents) tracker.touch(id);
      const more = this.#more === before.more ? undefined : this.#more;
      const delta = { seq: now, patch: tracker.takePatch((id) => this.#tree.show(id)), more };
      return this.#query.ordered ? withOrder(delta, before.documents, this.#roots) : delta;
    }
    return undefined;
  }

  /** Whether the limit cuts the result. */
  get #more(): boolean {
    return this.#window?.more ?? false;
  }

  /** The documents shown, in order, without their related documents. */
  get #roots(): readonly Document[] {
    return this.#window?.documents ?? this.#tree.documents.sort(this.#query.compare);
  }

  #fullState(): FullState {
    const most = this.limits.bytes ?? Infinity;
    let bytes = 0;
    const documents = this.#roots.map(({ id }) => {
      const text = JSON.stringify(this.#tree.show(id));
      if ((bytes += text.length) > most) throw tooManyBytes('The state of this watch', most);
      return text;
    });
    return { seq: this.store.log.seq, documents, more: this.#more };
  }

  #delta(seq: number): Delta {
    const more = this.#more;
    const altered = more === this.#toldMore ? undefined : more;
    this.#toldMore = more;
    const delta = { seq, patch: this.#tree.takePatch(), more: altered };
    if (!this.#query.ordered) return delta;
    const before = this.#toldRoots;
    this.#toldRoots = this.#roots;
    return withOrder(delta, before, this.#toldRoots);
  }

  /** Has the tree follow which documents are shown. Returns false when the window must be filled again. */
  #followRoots(changes: readonly DocumentChange[]): boolean {
    const own = changes.filter(({ collection }) => collection === this.collection);
    if (own.length === 0) return true;
    if (this.#window) {
      const enough = this.#window.follow(own);
      if (enough) this.#showRoots(this.#window.documents);
      return enough;
    }
    for (const { id, after } of own) {
      if (after && this.#query.matches({ document: after }) === true) this.#showRoot(after);
      else this.#hideRoot(id);
    }
    return true;
  }

  #showRoots(documents: readonly Document[]): void {
    const shown = new Set(documents.map(({ id }) => id));
    for (const { id } of [...this.#tree.documents, ...this.#waiting.values()]) if (!shown.has(id)) this.#hideRoot(id);
    for (const document of documents) this.#showRoot(document);
  }

  #showRoot(document: Document): void {
    if (this.#state === 'relating' && !this.#tree.has(document.id)) this.#waiting.set(document.id, document);
    else {
      this.#relations.next();
      this.#tree.set(document);
    }
  }

  #hideRoot(id: string): void {
    this.#waiting.delete(id);
    this.#tree.delete(id);
  }

  /** Reads all documents; at once if possible. The existing tree is kept and updated meanwhile. */
  #load(): Promise<void> | undefined {
    if (this.#loading) return this.#loading;
    if (this.#state === 'unread') this.#begin();
    const reading = this.store.reader.readAtOnce(this.#bare, this.#window?.wanted ?? READ_AT_ONCE, {
      ...this.limits,
      whole: this.#window !== undefined,
    });
    const documents = reading?.found.map(({ document }) => document) ?? [];
    const fresh = documents.reduce((count, { id }) => count + Number(!this.#tree.has(id)), 0);
    if (reading && (this.#window || !reading.more) && fresh <= RELATE_AT_ONCE) {
      this.#window?.fill(documents, !reading.more);
      this.#showRoots(this.#window?.documents ?? documents);
      this.#goLive();
      return undefined;
    }
    this.#loading = this.#loadSlowly()
      .catch((error: unknown) => {
        this.#state = 'unread';
        throw error;
      })
      .finally(() => (this.#loading = undefined));
    return this.#loading;
  }

  /** Begins with an empty tree. */
  #begin(): void {
    this.#tree.clear();
    this.#relations = new StoredRelations(this.store, this.store.reader.rows, false, this.limits);
    this.#tree = new RelatedTree(this.#query, this.#relations, this.#listener);
    this.#fresh = true;
  }

  #goLive(): void {
    this.#state = 'live';
    this.#relations.lift();
    if (!this.#fresh) return;
    this.#fresh = false;
    // A new watcher gets the whole tree.
    this.#delta(0);
  }

  async #loadSlowly(): Promise<void> {
    do {
      this.#state = 'reading';
      this.#lost = false;
      this.#waiting.clear();
      const { seq, documents, more } = await this.#readRoots();
      this.#check();
      this.#state = 'relating';
      this.#window?.fill(documents, !more);
      if (!this.#window) this.#showRoots(documents);
      const changes = changesAfter(this.store, this.collection, seq);
      this.#lost = !changes || !this.#followRoots(changes);
      if (this.#window && !this.#lost) this.#showRoots(this.#window.documents);
      await this.#relate();
    } while (this.#lost);
    this.#goLive();
  }

  #check(): void {
    if (this.#closed) throw new Error('The watch has ended.');
  }

  /** Looks up the related documents that are still missing; other requests are served meanwhile. */
  async #relate(): Promise<void> {
    while (this.#waiting.size > 0 && !this.#lost) {
      const sliceEnd = performance.now() + SLICE_MS;
      for (const [id, document] of this.#waiting) {
        this.#waiting.delete(id);
        this.#relations.next();
        this.#tree.set(document);
        if (performance.now() > sliceEnd) break;
      }
      await new Promise((resolve) => setImmediate(resolve));
      this.#check();
    }
  }

  async #readRoots(): Promise<{ seq: number; documents: Document[]; more: boolean }> {
    if (this.#window) {
      const { seq, found, more } = await this.store.reader.read(this.#bare, this.#window.wanted, this.limits);
      return { seq, documents: found.map(({ document }) => document), more };
    }
    let seq = 0;
    const documents: Document[] = [];
    const most = this.limits.bytes ?? Infinity;
    let bytes = 0;
    for await (const slice of this.store.reader.streamInSlices(this.#bare, this.limits, (at) => (seq = at))) {
      for (const { document, stored } of slice) {
        if ((bytes += stored.data.length) > 2 * most) throw tooManyBytes('The state of this watch', most);
        documents.push(document);
      }
    }
    return { seq, documents, more: false };
  }

  async #rootsAt(seq: number, changes: readonly DocumentChange[]): ReturnType<typeof shownAt> {
    if (isLimited(this.#bare)) {
      return this.#bare.limit > MAX_EARLIER_DOCUMENTS ? undefined : shownAt(this.store, this.#bare, this.limits, seq);
    }
    const now = this.#tree.documents;
    if (now.length > MAX_EARLIER_DOCUMENTS) return undefined;
    const changed = changes.filter(({ collection }) => collection === this.collection);
    const ids = new Set(changed.map(({ id }) => id));
    const were = changed.flatMap(({ before }) =>
      before && this.#query.matches({ document: before }) === true ? before : [],
    );
    return { documents: [...now.filter(({ id }) => !ids.has(id)), ...were], more: false };
  }
}

/** Whether a query has a limit. */
export function isLimited(query: Query): query is Query & { limit: number } {
  return query.limit !== undefined;
}

/** The collections that a query and its includes read. */
function collectionsOf({ from, includes }: Query): Set<string> {
  return new Set([from, ...includes.flatMap(({ query }) => [...collectionsOf(query)])]);
}
