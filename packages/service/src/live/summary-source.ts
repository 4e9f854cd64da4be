import type { DocumentChange, Node, Query, SummaryState, WorkMeter } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { changesAfter, summarize, summarizeAtOnce, type ReadLimits, type Store } from '../store/index.js';
import type { FullState } from './live-event.js';
import { limitedKey, metersOf } from './query-source.js';
import type { Delta, Source } from './source.js';

/** A summary that was overtaken by commits while it was computed is computed again this often. */
const MAX_ATTEMPTS = 4;

/**
 * The totals of a query. They are updated with each change; documents are read again only when the known smallest or
 * largest values are used up.
 */
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
    // Nothing has been sent yet, or the reading in progress will include these changes.
    if (!before || this.#filling) return { seq, patch: [] };
    if (before.follow(changes)) return { seq, patch: before.takePatch() };
    this.#state = undefined;
    const filling = this.#fill();
    const altered = () => ({ seq: this.store.log.seq, patch: this.#state!.takePatchFrom(before) });
    return filling ? filling.then(altered) : altered();
  }

  /** The earlier state is unknown; summaries are small enough to be sent whole. */
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
      const changes = changesAfter(this.store, this.collection, seq);
      if (!changes || !state.follow(changes)) continue;
      this.#state = state;
      state.takePatch();
      return;
    }
    throw problemError('overloaded', 'Documents change faster than the totals can be computed. Try again later.');
  }
}
