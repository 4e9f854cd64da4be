import { netChanges, type DocumentChange } from '@uproar/core';
import type { WatchTarget } from '@uproar/protocol';
import type { AppliedCommit, Store } from '../store/index.js';
import type { LiveEvent } from './live-event.js';
import { LiveView, type Sink, type Subscription } from './live-view.js';
import { sourceFor } from './sources.js';

/** The list of collections alters with every commit; those who watch it hear of that at most this often. */
const COLLECTION_LIST_INTERVAL_MS = 250;

/** All live views of a store: what is watched, and who watches it. */
export class LiveViews {
  readonly #store: Store;
  readonly #byKey = new Map<string, LiveView>();
  readonly #byCollection = new Map<string, Set<LiveView>>();
  readonly #stopListening: () => void;
  #lastName = 0;
  #collectionListTimer: NodeJS.Timeout | undefined;

  constructor(store: Store) {
    this.#store = store;
    this.#stopListening = store.log.onApplied((group) => this.#distribute(group));
  }

  /** Begins a watch. The first event is for the caller to send; later ones go to the sink. */
  watch(target: WatchTarget, sink: Sink, resume?: string): { subscription: Subscription; first: LiveEvent } {
    const source = sourceFor(target, this.#store);
    let view = this.#byKey.get(source.key);
    if (!view) {
      view = new LiveView(
        `w${++this.#lastName}`,
        source,
        this.#store.id,
        () => this.#store.log.seq,
        (empty) => this.#forget(empty),
      );
      this.#byKey.set(source.key, view);
      if (source.collection !== undefined) this.#viewsOf(source.collection).add(view);
    } else if (source.collection === undefined) {
      this.#distributeCollectionList();
    }
    return view.add(sink, resume);
  }

  close(): void {
    this.#stopListening();
    clearTimeout(this.#collectionListTimer);
  }

  #viewsOf(collection: string): Set<LiveView> {
    let views = this.#byCollection.get(collection);
    if (!views) this.#byCollection.set(collection, (views = new Set()));
    return views;
  }

  #forget(view: LiveView): void {
    this.#byKey.delete(view.source.key);
    const { collection } = view.source;
    if (collection === undefined) return;
    const views = this.#viewsOf(collection);
    views.delete(view);
    if (views.size === 0) this.#byCollection.delete(collection);
  }

  /** Commits written together leave as one event: each view shows the state after the last of them. */
  #distribute(group: readonly AppliedCommit[]): void {
    const seq = group.at(-1)!.seq;
    const byCollection = new Map<string, DocumentChange[]>();
    for (const { changes } of group) {
      for (const change of changes) {
        if (!this.#byCollection.has(change.collection)) continue;
        const changesOf = byCollection.get(change.collection);
        if (changesOf) changesOf.push(change);
        else byCollection.set(change.collection, [change]);
      }
    }
    for (const [collection, changes] of byCollection) {
      const net = netChanges(changes);
      for (const view of this.#byCollection.get(collection)!) view.distribute(seq, net);
    }
    this.#collectionListTimer ??= setTimeout(
      () => this.#distributeCollectionList(),
      COLLECTION_LIST_INTERVAL_MS,
    ).unref();
  }

  #distributeCollectionList(): void {
    clearTimeout(this.#collectionListTimer);
    this.#collectionListTimer = undefined;
    for (const view of this.#byKey.values()) {
      if (view.source.collection === undefined) view.distribute(this.#store.log.seq, []);
    }
  }
}
