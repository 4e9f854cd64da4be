import {
  diff,
  escapeToken,
  Window,
  type Document,
  type DocumentChange,
  type JsonPatch,
  type JsonValue,
  type Node,
  type Query,
  type WorkMeter,
} from '@uproar/core';
import { refills } from '../metrics/refills.js';
import { changesAfter, type ReadLimits, type Store } from '../store/index.js';
import { MAX_ATTEMPTS, shownAt, type Shown } from './earlier.js';
import type { FullState } from './live-event.js';
import { withOrder } from './ordered-state.js';
import { limitedKey, metersOf } from './query-source.js';
import type { Delta, Source } from './source.js';

/**
 * A query with a limit. It holds the documents and some more behind them, and follows the changes. It reads the store
 * again only when so many documents have left that these are used up.
 */
export class WindowSource implements Source {
  readonly key: string;
  readonly collection: string;
  readonly where: Node | undefined;
  readonly meters: readonly WorkMeter[];
  readonly holds = true;
  readonly #window: Window;
  /** False before the first reading. */
  #filled = false;
  #shown: Shown = { documents: [], more: false };
  #filling: Promise<void> | undefined;

  constructor(
    readonly store: Store,
    readonly query: Query & { limit: number },
    readonly limits: ReadLimits,
  ) {
    this.key = limitedKey(query, limits);
    this.collection = query.from;
    this.where = query.where;
    this.meters = metersOf(query);
    this.#window = windowOf(query);
  }

  get ready(): boolean {
    return this.#filled && !this.#filling;
  }

  read(): FullState | Promise<FullState> {
    if (this.ready) return this.#fullState();
    const filling = this.#fill();
    return filling ? filling.then(() => this.#fullState()) : this.#fullState();
  }

  apply(seq: number, changes: readonly DocumentChange[]): Delta | Promise<Delta> {
    // Nothing has been sent yet, or the reading in progress will include these changes.
    if (!this.ready) return { seq, patch: [] };
    const before = this.#shown;
    if (!this.#window.follow(changes)) {
      refills.count++;
      const filling = this.#fill();
      if (filling) return filling.then(() => this.#delta(before, this.store.log.seq));
    }
    this.#show();
    return this.#delta(before, seq);
  }

  async since(seq: number): Promise<Delta | undefined> {
    for (let attempt = 0; attempt < MAX_ATTEMPTS; attempt++) {
      await this.read();
      const before = await shownAt(this.store, this.query, this.limits, seq);
      if (!before) return undefined;
      // So many documents may have left meanwhile that the shown state is outdated until it has been read again.
      if (this.ready) return this.#delta(before, this.store.log.seq);
    }
    return undefined;
  }

  #fullState(): FullState {
    const { documents, more } = this.#shown;
    return {
      seq: this.store.log.seq,
      documents: documents.map((document) => JSON.stringify(this.query.show(document))),
      more,
    };
  }

  /** Reads the documents to hold; at once if possible. */
  #fill(): Promise<void> | undefined {
    if (this.#filling) return this.#filling;
    const reading = this.store.reader.readAtOnce(this.query, this.#window.wanted, this.limits);
    if (reading) {
      const documents = reading.found.map(({ document }) => document);
      this.#window.fill(documents, !reading.more);
      this.#filled = true;
      this.#show();
      return undefined;
    }
    this.#filling = this.#fillSlowly().finally(() => (this.#filling = undefined));
    return this.#filling;
  }

  async #fillSlowly(): Promise<void> {
    for (;;) {
      const { seq, found, more } = await this.store.reader.read(this.query, this.#window.wanted, this.limits);
      const documents = found.map(({ document }) => document);
      this.#window.fill(documents, !more);
      // Commits that arrived during the reading are applied; so many documents may have left that it must be repeated.
      const changes = changesAfter(this.store, this.collection, seq);
      if (changes && this.#window.follow(changes)) break;
    }
    this.#filled = true;
    this.#show();
  }

  #show(): void {
    const { documents, more } = this.#window;
    this.#shown = { documents, more };
  }

  #delta(before: Shown, seq: number): Delta {
    const after = this.#shown;
    const more = before.more === after.more ? undefined : after.more;
    const delta = { seq, patch: this.#patch(before, after), more };
    return this.query.ordered ? withOrder(delta, before.documents, after.documents) : delta;
  }

  #patch(before: Shown, after: Shown): JsonPatch {
    if (before.documents === after.documents) return [];
    const patch: JsonPatch = [];
    const show = (document: Document) => this.query.show(document) as unknown as JsonValue;
    const is = new Map(after.documents.map((document) => [document.id, document]));
    const was = new Map(before.documents.map((document) => [document.id, document]));
    for (const id of was.keys()) if (!is.has(id)) patch.push({ op: 'remove', path: `/${escapeToken(id)}` });
    for (const [id, document] of is) {
      const earlier = was.get(id);
      const path = `/${escapeToken(id)}`;
      if (!earlier) patch.push({ op: 'add', path, value: show(document) });
      else if (earlier !== document && earlier.version !== document.version)
        patch.push(...diff(show(earlier), show(document), path));
    }
    return patch;
  }
}

/** An empty window of a query with a limit. */
export function windowOf(query: Query & { limit: number }): Window {
  return new Window(query.limit, query.compare, (document) => query.matches({ document }) === true);
}
