import type { DocumentChange, Node, Query, SummaryState, WorkMeter } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { changesAfter, summarize, summarizeAtOnce, type ReadLimits, type Store } from '../store/index.js';
import type { FullState } from './live-event.js';
import { limitedKey, metersOf } from './query-source.js';
import type { Delta, Source } from './source.js';

/** So often documents that were overtaken by commits while they were summed up are summed up again. */
const MAX_ATTEMPTS = 4;

/** Totals of a query. They are kept as documents alter; nothing is read again but where a least or greatest value has run out. */
export class SummarySource implements Source {
  readonly key: string;
  readonly collection: string;
  readonly where: Node | undefined;
  readonly meters: readonly WorkMeter[];
  readonly holds = true;
  #state: SummaryState | undefined;
  #filling: Promise<void> | undefined;

  constructor(
    readonly store: Store,
    readonly query: Query,
    readonly limits: ReadLimits,
  ) {
    this.key = limitedKey(query, limits);
    this.collection = query.from;
    this.where = query.where;
    this.meters = metersOf(query);
  }

  get ready(): boolean {
    return this.#state !== undefined && !this.#filling;
  }

  read(): FullState | Promise<FullState> {
    if (this.ready) return this.#fullState();
    const filling = this.#fill();
    return filling ? filling.then(() => this.#fullState()) : this.#fullState();
  }

  apply(seq: number, changes: readonly DocumentChange[]): Delta | Promise<Delta> {
    const before = this.#state;
    // Nobody has been told anything yet, or what is being read will include these changes.
    if (!before || this.#filling) return { seq, patch: [] };
    if (before.follow(changes)) return { seq, patch: before.takePatch() };
    this.#state = undefined;
    const filling = this.#fill();
    const altered = () => ({ seq: this.store.log.seq, patch: this.#state!.takePatchFrom(before) });
    return filling ? filling.then(altered) : altered();
  }

  /** What it was earlier is not known; it is small enough to be told as a whole. */
  since(): undefined {
    return undefined;
  }

  #fullState(): FullState {
    const documents = this.#state!.documents().map((document) => JSON.stringify(document));
    return { seq: this.store.log.seq, documents, more: false };
  }

  /** Sums up all documents; at once where that is possible. */
  #fill(): Promise<void> | undefined {
    if (this.#filling) return this.#filling;
    const summarized = summarizeAtOnce(this.store, this.query);
    if (summarized) {
      this.#state = summarized.state;
      this.#state.takePatch();
      return undefined;
    }
    this.#filling = this.#fillSlowly().finally(() => (this.#filling = undefined));
    return this.#filling;
  }

  async #fillSlowly(): Promise<void> {
    for (let attempt = 0; attempt < MAX_ATTEMPTS; attempt++) {
      const { seq, state } = await summarize(this.store, this.query, this.limits);
      if (!state.follow(changesAfter(this.store, this.collection, seq))) continue;
      this.#state = state;
      state.takePatch();
      return;
    }
    throw problemError('overloaded', 'Documents change faster than the totals can be computed. Try again later.');
  }
}
