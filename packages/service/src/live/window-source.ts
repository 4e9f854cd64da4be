import {
  diff,
  escapeToken,
  type Document,
  type DocumentChange,
  type JsonPatch,
  type JsonValue,
  type Node,
  type Query,
} from '@uproar/core';
import type { ReadLimits, Store } from '../store/index.js';
import type { FullState } from './live-event.js';
import { limitedKey } from './query-source.js';
import type { Alteration, Source } from './sources.js';

/** What a window shows at one moment. */
interface Shown {
  documents: readonly Document[];
  more: boolean;
}

/** How often windows had to be filled again from the store, for all windows together. */
export const refills = { count: 0 };

/** So often a reading that was overtaken by commits is tried again before a reset is sent instead. */
const MAX_ATTEMPTS = 4;

/**
 * A query with a limit. It holds the documents that are shown and some reserve behind them, and follows the changes;
 * the store is asked again only when so many documents have left that the reserve is used up.
 */
export class WindowSource implements Source {
  readonly key: string;
  readonly collection: string;
  readonly where: Node | undefined;
  readonly #limit: number;
  readonly #reserve: number;
  /** The first documents of the query, in order; undefined before the first reading. */
  #held: Document[] | undefined;
  /** True when what is held is all there is. */
  #complete = false;
  #shown: Shown = { documents: [], more: false };
  #filling: Promise<void> | undefined;

  constructor(
    readonly store: Store,
    readonly query: Query,
    readonly limits: ReadLimits,
  ) {
    this.key = limitedKey(query, limits);
    this.collection = query.from;
    this.where = query.where;
    this.#limit = query.limit!;
    this.#reserve = Math.max(10, Math.min(200, this.#limit));
  }

  get ready(): boolean {
    return this.#held !== undefined && !this.#filling;
  }

  read(): FullState | Promise<FullState> {
    if (this.ready) return this.#fullState();
    const filling = this.#fill();
    return filling ? filling.then(() => this.#fullState()) : this.#fullState();
  }

  apply(seq: number, changes: readonly DocumentChange[]): Alteration | Promise<Alteration> {
    // Nobody has been shown anything yet, or what is being read will include these changes.
    if (!this.#held || this.#filling) return { seq, patch: [] };
    const before = this.#shown;
    if (!this.#follow(changes)) {
      refills.count++;
      const filling = this.#fill();
      if (filling) return filling.then(() => this.#alteration(before, this.store.log.seq));
    }
    this.#show();
    return this.#alteration(before, seq);
  }

  async since(seq: number): Promise<Alteration | undefined> {
    for (let attempt = 0; attempt < MAX_ATTEMPTS; attempt++) {
      await this.read();
      const before = await this.#shownAt(seq);
      if (!before) return undefined;
      // Meanwhile so much may have left that what is shown is of an earlier state until it has been read again.
      if (this.ready) return this.#alteration(before, this.store.log.seq);
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

  /** Reads what is to be held; at once where that is possible. */
  #fill(): Promise<void> | undefined {
    if (this.#filling) return this.#filling;
    const wanted = this.#limit + this.#reserve;
    const reading = this.store.reader.readAtOnce(this.query, wanted);
    if (reading) {
      this.#take(
        reading.found.map(({ document }) => document),
        !reading.more,
      );
      return undefined;
    }
    this.#filling = this.#fillSlowly(wanted).finally(() => (this.#filling = undefined));
    return this.#filling;
  }

  async #fillSlowly(wanted: number): Promise<void> {
    for (;;) {
      const { seq, found, more } = await this.store.reader.read(this.query, wanted, this.limits);
      this.#take(
        found.map(({ document }) => document),
        !more,
      );
      // Commits that came while it was read are followed up; so many of them may have left that it must be read again.
      if (this.#follow(this.#changesAfter(seq))) break;
    }
    this.#show();
  }

  #take(documents: Document[], complete: boolean): void {
    this.#held = documents;
    this.#complete = complete;
    this.#show();
  }

  #changesAfter(seq: number): DocumentChange[] {
    const info = this.store.collections.get(this.collection);
    return info ? this.store.journal.netChangesAfter(seq, info.number) : [];
  }

  /** Applies changes to what is held. Returns false when too little is left to tell what belongs to the window. */
  #follow(changes: readonly DocumentChange[]): boolean {
    const held = this.#held!;
    for (const { before, after } of changes) {
      if (before) {
        const { index, found } = this.#find(before);
        if (found) held.splice(index, 1);
      }
      if (!after || this.query.matches({ document: after }) !== true) continue;
      const { index } = this.#find(after);
      // Behind the last one held lie others that are not held; only what sorts before that has a known place.
      if (index < held.length || this.#complete) held.splice(index, 0, after);
    }
    if (held.length > this.#limit + 2 * this.#reserve) {
      held.length = this.#limit + this.#reserve;
      this.#complete = false;
    }
    return this.#complete || held.length > this.#limit;
  }

  #find(document: Document): { index: number; found: boolean } {
    const held = this.#held!;
    let low = 0;
    let high = held.length;
    while (low < high) {
      const middle = (low + high) >>> 1;
      if (this.query.compare(held[middle]!, document) < 0) low = middle + 1;
      else high = middle;
    }
    return { index: low, found: held[low]?.id === document.id };
  }

  #show(): void {
    const held = this.#held!;
    this.#shown = { documents: held.slice(0, this.#limit), more: !this.#complete || held.length > this.#limit };
  }

  #alteration(before: Shown, seq: number): Alteration {
    const after = this.#shown;
    return { seq, patch: this.#patch(before, after), more: before.more === after.more ? undefined : after.more };
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

  /**
   * What was shown at an earlier seq: the first of those that have not changed since, and of those that have, as they
   * were. Undefined when the journal does not reach back, or commits come faster than this can be found out.
   */
  async #shownAt(seq: number): Promise<Shown | undefined> {
    for (let attempt = 0; attempt < MAX_ATTEMPTS; attempt++) {
      if (!this.store.journal.reachesBackTo(seq)) return undefined;
      const now = this.store.log.seq;
      const changed = new Map(this.#changesAfter(seq).map((change) => [change.id, change.before]));
      const reading = await this.store.reader.read(this.query, this.#limit, this.limits, (id) => changed.has(id));
      if (reading.seq !== now || this.store.log.seq !== now) continue;
      const documents = reading.found.map(({ document }) => document);
      for (const document of changed.values()) {
        if (document && this.query.matches({ document }) === true) documents.push(document);
      }
      documents.sort(this.query.compare);
      return { documents: documents.slice(0, this.#limit), more: reading.more || documents.length > this.#limit };
    }
    return undefined;
  }
}
