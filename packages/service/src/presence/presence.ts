import { formatAddress, splitAddress, type Write } from '@uproar/core';
import { problemError, ProblemError } from '@uproar/protocol';
import type { AppliedCommit, Store } from '../store/index.js';

/** Documents that one connection can hold. */
const MAX_OF_CONNECTION = 100;

/** Documents that one commit releases, so that other commits need not wait long. */
const AT_ONCE = 100;

/** How often documents without a connection are released, in milliseconds. */
const INTERVAL_MS = 250;

/** Who makes the commits that end documents of connections that have ended. */
const PRESENCE_AUTHOR = { kind: 'presence', name: '' } as const;

const NODES = 'SELECT DISTINCT node FROM holds';
const OF_NODE = 'SELECT collection, document AS id FROM holds WHERE node = ? LIMIT ?';

/** A connection that documents can live as long as. */
export interface Holder {
  /** Closes the connection; the client connects again. */
  disconnect(): void;
}

/** What presence works with. */
export interface PresenceParts {
  store: Pick<Store, 'log' | 'reads' | 'health'>;
  /** This process, from its start to its end. */
  node: string;
  /** How long a document stays after its connection has ended, in milliseconds. */
  graceMs: number;
  /** Whether this process lets go what lost nodes held. */
  isInCharge: () => boolean;
  /** Whether another node is running. */
  isRunning: (node: string) => boolean;
}

/**
 * Documents that live as long as the connection that wrote them. Which connections hold a document is in the memory of their
 * node; which nodes hold it is in the state. When the last connection of a node has ended for a while, the node lets go; the
 * document is deleted when no node holds it any more.
 */
export class Presence {
  readonly #parts: PresenceParts;
  readonly #holders = new Map<string, Set<Holder>>();
  readonly #held = new Map<Holder, Set<string>>();
  /** Documents without a connection, and when they are let go. In that order. */
  readonly #leaving = new Map<string, number>();
  /** Since when other nodes do not run, by the monotonic clock. */
  readonly #lost = new Map<string, number>();
  readonly #timer: NodeJS.Timeout;
  readonly #stopListening: () => void;
  #running = false;

  constructor(parts: PresenceParts) {
    this.#parts = parts;
    this.#timer = setInterval(() => void this.#run(), INTERVAL_MS).unref();
    this.#stopListening = parts.store.log.onApplied((group) => this.#noteTaken(group));
  }

  /** What writes of this node name as the one that holds their documents. */
  get node(): string {
    return this.#parts.node;
  }

  /**
   * A connection holds documents from now on.
   *
   * @returns undoes that, for documents that it did not hold before
   * @throws {ProblemError} `limit-reached`
   */
  hold(holder: Holder, addresses: readonly string[]): () => void {
    const held = this.#held.get(holder) ?? new Set();
    const added = addresses.filter((address) => !held.has(address));
    if (held.size + added.length > MAX_OF_CONNECTION) {
      throw problemError('limit-reached', `A connection can hold at most ${MAX_OF_CONNECTION} documents.`);
    }
    this.#held.set(holder, held);
    for (const address of added) {
      held.add(address);
      this.#leaving.delete(address);
      this.#holders.set(address, (this.#holders.get(address) ?? new Set()).add(holder));
    }
    return () => added.forEach((address) => this.#drop(holder, address, 0));
  }

  /** A connection lets a document go at once. */
  letGo(holder: Holder, address: string): void {
    if (this.#held.get(holder)?.has(address)) this.#drop(holder, address, 0);
  }

  /** A connection has ended, or is another identity now. */
  release(holder: Holder): void {
    for (const address of this.#held.get(holder) ?? []) this.#drop(holder, address, this.#parts.graceMs);
  }

  close(): void {
    clearInterval(this.#timer);
    this.#stopListening();
  }

  #drop(holder: Holder, address: string, afterMs: number): void {
    const held = this.#held.get(holder);
    held?.delete(address);
    if (held?.size === 0) this.#held.delete(holder);
    const holders = this.#holders.get(address);
    holders?.delete(holder);
    if (!holders || holders.size > 0) return;
    this.#holders.delete(address);
    this.#leaving.set(address, performance.now() + afterMs);
  }

  /** A document that was deleted or replaced by others is not held any more. */
  #noteTaken(group: readonly AppliedCommit[]): void {
    if (this.#holders.size === 0) return;
    for (const { commit, changes } of group) {
      for (const { collection, id, after } of changes) {
        const address = formatAddress(collection, id);
        const holders = after ? undefined : this.#holders.get(address);
        if (!holders) continue;
        for (const holder of [...holders]) {
          this.#drop(holder, address, 0);
          // Others took this node for lost, although its connections live. They begin again.
          if (commit.author.kind === 'presence') holder.disconnect();
        }
      }
    }
  }

  async #run(): Promise<void> {
    if (this.#running) return;
    this.#running = true;
    try {
      while (await this.#letGo());
      if (this.#parts.isInCharge()) await this.#letGoOfLost();
    } catch (error) {
      // A full or failing disk, a queue that is full, or a store that is being closed: the next turn tries again.
      if (!(error instanceof ProblemError) && !this.#parts.store.health.note(error)) throw error;
    } finally {
      this.#running = false;
    }
  }

  /** Lets some documents go that no connection of this node holds. Resolves with true when there may be more. */
  async #letGo(): Promise<boolean> {
    const now = performance.now();
    const due: string[] = [];
    for (const [address, atMs] of this.#leaving) if (atMs <= now && due.length < AT_ONCE) due.push(address);
    if (due.length === 0) return false;
    await this.#append(due.map(splitAddress), this.node);
    for (const address of due) if ((this.#leaving.get(address) ?? Infinity) <= now) this.#leaving.delete(address);
    return due.length === AT_ONCE;
  }

  /** Lets go what nodes held that have not run for a while, such as the process before this one. */
  async #letGoOfLost(): Promise<void> {
    const { reads } = this.#parts.store;
    const now = performance.now();
    const nodes = reads.values<[], string>(NODES).all();
    for (const node of this.#lost.keys()) if (!nodes.includes(node)) this.#lost.delete(node);
    for (const node of nodes) {
      if (node === this.node || this.#parts.isRunning(node)) this.#lost.delete(node);
      else if (!this.#lost.has(node)) this.#lost.set(node, now);
      else if (now - this.#lost.get(node)! >= this.#parts.graceMs) {
        const held = reads.statement<[string, number], { collection: string; id: string }>(OF_NODE).all(node, AT_ONCE);
        await this.#append(held, node);
      }
    }
  }

  async #append(documents: readonly { collection: string; id: string }[], node: string): Promise<void> {
    const writes = documents.map(({ collection, id }): Write => ({ kind: 'delete', collection, id, releasedBy: node }));
    if (writes.length > 0) await this.#parts.store.log.append({ timeMs: Date.now(), author: PRESENCE_AUTHOR, writes });
  }
}
