import { formatTerm, parseOrder, type OrderTerm } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { Log } from '../log/log.js';
import { SELECT_INDEXES, type IndexDefinition, type IndexEntry } from '../state/index-table.js';
import { innerRecords } from '../state/records.js';
import type { StateMachine } from '../state/state-machine.js';
import type { Reads } from './reads.js';
import { StoreThread } from './store-thread.js';

/** A secondary index of a collection. */
export interface IndexInfo extends IndexDefinition {
  /** False while it is still being filled; then no query uses it. */
  ready: boolean;
}

/** What indexes are read from and written with. */
export interface IndexOptions {
  file: string;
  reads: Reads;
  log: Log;
  state: StateMachine;
}

/** The number of documents added to a new index at a time, so that other requests are served in between. */
const FILL_AT_ONCE = 500;

const READY = 'SELECT number FROM ready_indexes';

/**
 * The secondary indexes of a store. The entries of a new one are computed in a thread of its own; changes reach it from
 * the start.
 */
export class Indexes {
  readonly #options: IndexOptions;
  #all: IndexInfo[] = [];
  /** The same array until the indexes change. */
  readonly #usable = new Map<number, readonly IndexInfo[]>();
  readonly #filling = new Map<number, Promise<void>>();
  readonly #threads = new Set<StoreThread<IndexEntry[]>>();
  #closed = false;

  constructor(options: IndexOptions) {
    this.#options = options;
    this.#load();
    options.log.onBatch(({ records }) => {
      if (!innerRecords(records).some(({ kind }) => kind === 'index-created' || kind === 'index-removed')) return;
      this.#load();
      // Another node may have created it.
      this.continueFilling();
    });
  }

  /** Fills the indexes that are not filled: new ones, and those that a process left unfinished. */
  continueFilling(): void {
    // A failure, such as a full disk, leaves it unready; the next start or request tries again.
    if (this.#closed) return;
    for (const { number, ready } of this.#all) if (!ready) this.#fill(number).catch(() => undefined);
  }

  /** All indexes, those of one collection together. */
  list(): IndexInfo[] {
    return [...this.#all].sort((a, b) => a.collection - b.collection || a.number - b.number);
  }

  /** The indexes that queries of a collection may use. */
  usable(collection: number): readonly IndexInfo[] {
    let usable = this.#usable.get(collection);
    if (!usable) {
      usable = this.#all.filter((index) => index.ready && index.collection === collection);
      this.#usable.set(collection, usable);
    }
    return usable;
  }

  /**
   * Creates an index and fills it. Resolves once it is filled. An index that exists already is returned; one that could
   * not be filled is removed again.
   */
  async create(collection: string, terms: OrderTerm[], timeMs: number): Promise<IndexInfo> {
    const fields = terms.map(formatTerm).join(',');
    const { log } = this.#options;
    const { number, created } = await log.propose({ kind: 'index-created', timeMs, collection, fields });
    try {
      await this.#fill(number);
    } catch (error) {
      // Where the disk does not allow even that, it stays without being used.
      if (created && !this.#closed) await this.remove(number).catch(() => undefined);
      throw error;
    }
    const index = this.#find(number);
    if (index) return index;
    throw problemError('no-such-index', `The index ${number} was removed while it was being filled.`);
  }

  /** Resolves when all indexes that are being filled are, or could not be. */
  async filled(): Promise<void> {
    await Promise.allSettled(this.#filling.values());
  }

  /** Removes an index. Resolves with whether there was one. */
  async remove(number: number): Promise<boolean> {
    const { found } = await this.#options.log.propose({ kind: 'index-removed', timeMs: Date.now(), number });
    return found;
  }

  /** Ends the threads that fill indexes; the next start continues. Resolves when they have ended. */
  async close(): Promise<void> {
    this.#closed = true;
    await Promise.all([...this.#threads].map((thread) => thread.end()));
  }

  #find(number: number): IndexInfo | undefined {
    return this.#all.find((index) => index.number === number);
  }

  #load(): void {
    const { reads } = this.#options;
    const ready = new Set(reads.values<[], number>(READY).all());
    this.#all = reads
      .statement<[], Omit<IndexDefinition, 'terms'>>(SELECT_INDEXES)
      .all()
      .map((row) => ({ ...row, terms: parseOrder(row.fields), ready: ready.has(row.number) }));
    this.#usable.clear();
  }

  /** Fills an index, unless it is filled. Resolves once it is. */
  #fill(number: number): Promise<void> {
    if (this.#find(number)?.ready ?? true) return Promise.resolve();
    let filling = this.#filling.get(number);
    if (!filling) {
      filling = this.#fillAll(number).finally(() => this.#filling.delete(number));
      this.#filling.set(number, filling);
    }
    return filling;
  }

  async #fillAll(number: number): Promise<void> {
    const { log, state, file } = this.#options;
    const { collection, fields } = this.#find(number)!;
    const data = { file, collection, fields, count: FILL_AT_ONCE };
    const thread = new StoreThread<IndexEntry[]>('./index-worker.js', data);
    this.#threads.add(thread);
    try {
      for (let more = true; more;) {
        const entries = await thread.ask('next').catch((error: unknown) => {
          throw this.#closed ? stopping() : error;
        });
        if (!this.#find(number)) return;
        await log.writeLocally(() => state.fillIndex(number, entries));
        more = entries.length === FILL_AT_ONCE;
      }
      await log.writeLocally(() => state.setIndexReady(number));
      this.#load();
    } finally {
      await thread.end();
      this.#threads.delete(thread);
    }
  }
}

function stopping(): Error {
  return problemError('stopping', 'The service is stopping. The index is filled after the restart.');
}
