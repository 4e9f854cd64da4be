import { splitAddress, type Document } from '@uproar/core';
import type { LiveResults, Problem, Receipt, WatchTarget, WireCommit } from '@uproar/protocol';
import { ProblemError } from '@uproar/protocol/problem-error';
import type { SchemaCheck } from '../schema/schema.js';
import type { Outbox } from '../outbox/outbox.js';
import { pendingWritesOf, type PendingWrite } from '../outbox/pending.js';
import { MemoryStorage, type ClientStorage } from '../storage/storage.js';
import type { ConnectionState, Link } from '../transport/link.js';
import { Subscription } from './subscription.js';
import { Watch, type WatchHost } from './watch.js';

/** The shortest time between two copies of a view in the storage, in milliseconds. */
const KEEP_INTERVAL_MS = 1000;

/** How long an acknowledged write is shown while the event stream has not delivered it yet, in milliseconds. */
const ECHO_MS = 1000;

/** How long the service keeps a watch after its last user has closed it, in milliseconds. */
const DEFAULT_GRACE_MS = 3000;

/** A subscription and the watches that share it. */
interface Shared {
  subscription: Subscription;
  watches: Set<Watch>;
  endTimer: ReturnType<typeof setTimeout> | undefined;
  keepTimer: ReturnType<typeof setTimeout> | undefined;
}

export interface WatchRegistryOptions {
  storage: ClientStorage;
  graceMs: number | undefined;
  link: () => Link;
  outbox: () => Outbox | undefined;
  /** Called when the token of a watch has expired. */
  expired: () => void;
}

/** The open watches of a store. Watches of the same target share one subscription. */
export class WatchRegistry implements WatchHost {
  readonly #options: WatchRegistryOptions;
  readonly #shared = new Map<string, Shared>();
  /** Writes that were acknowledged over HTTP before the event stream delivered them. */
  #echoes: { write: PendingWrite; seq: number; until: number }[] = [];

  constructor(options: WatchRegistryOptions) {
    this.#options = options;
  }

  open(target: WatchTarget, check?: SchemaCheck): Watch {
    const key = JSON.stringify(target);
    const shared = this.#shared.get(key) ?? this.#begin(key, target);
    clearTimeout(shared.endTimer);
    const watch: Watch = new Watch(this, shared.subscription, check, () => this.#leave(key, shared, watch));
    shared.watches.add(watch);
    return watch;
  }

  /** The writes that a watch shows on top of the state of the store. */
  pendingWrites({ scope, base }: Subscription): PendingWrite[] {
    const concerned: PendingWrite[] = [];
    for (const { write, seq, until } of this.#echoes) {
      if (seq > base.seq && until > Date.now() && scope.concerns(write.write)) concerned.push(write);
    }
    for (const write of this.#options.outbox()?.writes() ?? []) {
      const arrived = write.seq !== undefined && write.seq <= base.seq;
      if (!arrived && scope.concerns(write.write)) concerned.push(write);
    }
    return concerned;
  }

  /** The last known state of a document in any view. */
  known(address: string): Document | undefined {
    const { collection, id } = splitAddress(address);
    for (const { subscription } of this.#shared.values()) {
      if (subscription.scope.collection !== collection) continue;
      const document = subscription.document(id);
      if (document?.version !== undefined) return document;
    }
    return undefined;
  }

  /** Updates the pending writes in all watches that a commit concerns. */
  refresh(commit: WireCommit): void {
    const writes = pendingWritesOf(commit, 0);
    for (const { subscription, watches } of this.#shared.values()) {
      if (writes.some(({ write }) => subscription.scope.concerns(write))) for (const watch of watches) watch.refresh();
    }
  }

  /** Keeps showing an acknowledged commit until the event stream has delivered it. */
  echo(commit: WireCommit, { seq }: Receipt): void {
    const now = Date.now();
    this.#echoes = this.#echoes.filter(({ until }) => until > now);
    for (const write of pendingWritesOf(commit, now)) this.#echoes.push({ write, seq, until: now + ECHO_MS });
    setTimeout(() => this.refresh(commit), ECHO_MS + 1);
  }

  /** Starts the watches that are not running on the present connection. */
  beginAll(): void {
    for (const { subscription } of this.#shared.values()) if (!subscription.begun) subscription.begin();
  }

  /** Marks the watches as stale, or as failed when the store refuses the connection. */
  disconnected(state: ConnectionState): void {
    for (const { subscription } of this.#shared.values()) {
      if (state.name === 'refused') subscription.fail(new ProblemError(state.problem));
      else subscription.setStale();
    }
  }

  /** Passes a notification of the service to its watch. */
  notified(name: string, params: unknown): void {
    // A policy change may have given the watch a new id.
    const { watch, was = watch } = params as { watch: string; was?: string };
    for (const { subscription } of this.#shared.values()) {
      if (subscription.name === watch || subscription.name === was) this.#notify(subscription, name, params);
    }
  }

  close(): void {
    for (const { subscription, watches, keepTimer } of this.#shared.values()) {
      if (keepTimer) this.#keepNow(subscription);
      clearTimeout(keepTimer);
      for (const watch of [...watches]) watch.close();
    }
    for (const { endTimer } of this.#shared.values()) clearTimeout(endTimer);
    this.#shared.clear();
  }

  #begin(key: string, target: WatchTarget): Shared {
    const { storage, link } = this.#options;
    const subscription = new Subscription(target, link);
    const shared: Shared = { subscription, watches: new Set(), endTimer: undefined, keepTimer: undefined };
    this.#shared.set(key, shared);
    const start = () => {
      const { state } = link();
      if (state.name === 'online') subscription.begin();
      else if (state.name === 'refused') subscription.fail(new ProblemError(state.problem));
    };
    if (storage instanceof MemoryStorage || link().state.name === 'refused') start();
    else {
      void storage
        .view(key)
        .then((stored) => stored && subscription.restore(stored))
        .catch(() => undefined)
        .then(() => {
          if (this.#shared.get(key) === shared && !subscription.begun) start();
        });
      subscription.listeners.add(() => {
        shared.keepTimer ??= setTimeout(() => {
          shared.keepTimer = undefined;
          this.#keepNow(subscription);
        }, KEEP_INTERVAL_MS);
      });
    }
    return shared;
  }

  #keepNow({ target, stored }: Subscription): void {
    if (stored) this.#options.storage.putView(JSON.stringify(target), stored).catch(() => undefined);
  }

  #leave(key: string, shared: Shared, watch: Watch): void {
    shared.watches.delete(watch);
    if (shared.watches.size > 0) return;
    const end = () => {
      if (this.#shared.get(key) === shared) this.#shared.delete(key);
      shared.subscription.end();
    };
    if (this.#options.link().state.name === 'closed') end();
    else shared.endTimer = setTimeout(end, this.#options.graceMs ?? DEFAULT_GRACE_MS);
  }

  #notify(subscription: Subscription, name: string, params: unknown): void {
    if (name !== 'end') return subscription.take(params as LiveResults['watch']);
    const { problem } = params as { problem: Problem };
    // After a restart of the service, the watch continues on the next connection.
    if (problem.status !== 503) subscription.fail(new ProblemError(problem));
    if (problem.status === 401) this.#options.expired();
  }
}
