import { createIdGenerator, formatAddress, splitAddress, type Document, type JsonObject } from '@uproar/core';
import type { LiveMethod, LiveParams, LiveResults, Problem, Receipt, WatchTarget, WireCommit } from '@uproar/protocol';
import { ProblemError } from '@uproar/protocol/problem-error';
import type { CheckStep } from './check-way.js';
import { Collection, type CollectionOptions } from './collection.js';
import { Files } from './files.js';
import { ConnectionError, tokenOf, type ConnectionState, type Link } from './link.js';
import type { ConnectOptions } from './options.js';
import { Outbox } from './outbox.js';
import { pendingWritesOf, type PendingWrite } from './pending.js';
import type { DataOf, Misfit, Schema, SchemaCheck } from './schema.js';
import type { OpenSocket } from './socket.js';
import { MemoryStorage, type ClientStorage } from './storage/storage.js';
import { checkSendable } from './sendable.js';
import { Subscription } from './subscription.js';
import { repeatUntilDone, type Transaction } from './transaction.js';
import { Watch, type WatchHost } from './watch.js';
import { Way } from './way.js';

/** How often copies of what is watched are kept, at most, in milliseconds. */
const KEEP_INTERVAL_MS = 1000;

/** How long a view may wait after a reconnect for the outcome of writes that were cut off, in milliseconds. */
const UNSURE_WAIT_MS = 3000;

/** How long an acknowledged write is shown over an event stream that has not brought it yet, in milliseconds. */
const ECHO_MS = 1000;

/** What a commit may have as JSON as long as the store has not said otherwise. */
const DEFAULT_COMMIT_BYTES = 16 * 1024 * 1024;

/** A subscription and who uses it. */
interface Shared {
  subscription: Subscription;
  watches: Set<Watch>;
  endTimer: ReturnType<typeof setTimeout> | undefined;
  keepTimer: ReturnType<typeof setTimeout> | undefined;
}

/** A store somewhere else: its collections, its watches, the writes on their way and the connection to it. */
export class Store implements WatchHost {
  /** Where the store is, for example `http://127.0.0.1:4680`. */
  readonly url: string;
  /** An id for a new document. Later ids sort behind earlier ones. */
  readonly newId = createIdGenerator({ now: Date.now, random: (bytes) => crypto.getRandomValues(bytes) });
  /** The files of the store. */
  readonly files: Files;
  readonly #options: ConnectOptions & { openSocket: OpenSocket };
  readonly #storage: ClientStorage;
  readonly #outbox: Outbox | undefined;
  readonly #shared = new Map<string, Shared>();
  readonly #subscribers = new Set<(state: ConnectionState) => void>();
  /** Writes that were acknowledged over HTTP before the event stream brought them. */
  #echoes: { write: PendingWrite; seq: number; until: number }[] = [];
  readonly #way: Way;
  /** When the service told its time, by the clock here. */
  #helloAt = 0;
  #maxCommitBytes = DEFAULT_COMMIT_BYTES;

  /** Use `connect`. */
  constructor(url: string, options: ConnectOptions & { openSocket: OpenSocket }) {
    if (!/^https?:\/\//i.test(url)) {
      throw new TypeError(`The address of a store begins with http:// or https://; "${url}" does not.`);
    }
    const base = new URL(url);
    this.url = base.origin;
    this.#options = options;
    this.#storage = options.storage ?? new MemoryStorage();
    this.files = new Files({
      store: this,
      storage: this.#storage,
      headers: this.#authorization,
      onRefused: options.onUploadRefused,
    });
    this.#way = new Way({
      url: this.url,
      options,
      tryRequest: () => this.fetch('/healthz'),
      probe: () => fetch(`${this.url}/healthz`, { mode: 'no-cors' }),
      listener: {
        stateChanged: (state) => this.#stateChanged(state),
        notified: (name, params) => this.#notified(name, params),
      },
    });
    if (options.outbox === false) return;
    this.#outbox = new Outbox({
      storage: this.#storage,
      newId: this.newId,
      maxCommitBytes: () => this.#maxCommitBytes,
      send: (commit) => this.call('commit', commit),
      isOnline: () => this.state.name === 'online',
      keepsOrder: () => this.#link.keepsOrder,
      onRefused: options.onRefused,
      changed: (entry, receipt) => this.#outboxChanged(entry.commit, receipt),
    });
  }

  get #link(): Link {
    return this.#way.link;
  }

  /** Where the connection stands, and why. */
  get state(): ConnectionState {
    return this.#link.state;
  }

  /** How many writes wait to be acknowledged. */
  get pending(): number {
    return this.#outbox?.size ?? 0;
  }

  /** Calls `subscriber` with the state of the connection, at once and whenever it changes. Returns a stop function. */
  subscribe(subscriber: (state: ConnectionState) => void): () => void {
    this.#subscribers.add(subscriber);
    subscriber(this.state);
    return () => this.#subscribers.delete(subscriber);
  }

  /**
   * Waits for the first answer of the service.
   *
   * @throws {ProblemError} when it refuses
   * @throws {ConnectionError} when it cannot be reached
   */
  ready(): Promise<LiveResults['hello']> {
    return new Promise((resolve, reject) => {
      const settle = (state: ConnectionState) => {
        if (state.name === 'online') resolve(state.server);
        else if (state.name === 'refused') reject(new ProblemError(state.problem));
        else if (state.name === 'offline') reject(new ConnectionError(state.reason));
        else if (state.name === 'closed') reject(new ConnectionError('The store was closed.'));
        else return;
        queueMicrotask(() => stop());
      };
      const stop = this.subscribe(settle);
    });
  }

  /** A collection of the store, whether anything is in it or not. */
  collection(name: string): Collection;
  /**
   * A collection whose documents are of a known type.
   *
   * @param schema of the documents: a Zod schema, or any other that follows Standard Schema. Those that do not fit are
   * reported with their id and the field, and kept, dropped, or end the view.
   */
  collection<S extends Schema<unknown>>(name: string, schema: S, options?: CollectionOptions): Collection<DataOf<S>>;
  collection(name: string, schema?: Schema<unknown>, options?: CollectionOptions): Collection<JsonObject> {
    return new Collection(this, name, schema as Schema<JsonObject> | undefined, options);
  }

  /** Keeps the list of collections in view, each in the form of a document with its counts as data. */
  watchCollections(): Watch {
    return this.watch({ collections: true });
  }

  /** Keeps something in view. Watches of the same thing share what the service sends. */
  watch(target: WatchTarget, check?: SchemaCheck): Watch {
    const key = JSON.stringify(target);
    const shared = this.#shared.get(key) ?? this.#begin(key, target);
    clearTimeout(shared.endTimer);
    const watch: Watch = new Watch(this, shared.subscription, check, () => this.#leave(key, shared, watch));
    shared.watches.add(watch);
    return watch;
  }

  /**
   * Writes several documents, all or none. They show in views at once, as pending; the promise resolves when they are
   * acknowledged, however long that takes.
   *
   * @throws {ProblemError} when the commit is refused; its `write` tells which write was at fault. It is undone in views then.
   * @throws {ConnectionError} only where the outbox is off, when no answer came
   */
  async commit(commit: WireCommit): Promise<Receipt> {
    return this.commitOf(commit, false);
  }

  /** As {@link commit}. `retried`: the caller begins anew after a conflict with what was read. For transactions. */
  async commitOf(commit: WireCommit, retried: boolean): Promise<Receipt> {
    if (this.#outbox) return this.#outbox.add(commit, retried);
    checkSendable(commit, this.#maxCommitBytes);
    return this.call('commit', commit);
  }

  /**
   * Reads and writes that belong together. When something that was read has changed by the time the writes arrive, `act` runs
   * again.
   *
   * @returns what `act` returned
   */
  async transaction<Result>(act: (transaction: Transaction) => Promise<Result> | Result): Promise<Result> {
    return (await repeatUntilDone(this, act)).result;
  }

  /**
   * Calls the service over the live connection.
   *
   * @throws {ProblemError} when the service refuses the call
   * @throws {ConnectionError} when no answer came; whether a commit was applied is then not known
   */
  call<Method extends LiveMethod>(method: Method, params: LiveParams[Method]): Promise<LiveResults[Method]> {
    return new Promise((resolve, reject) => this.#link.request(method, params, resolve, reject));
  }

  /**
   * Reads something over HTTP.
   *
   * @throws {ProblemError} when the service refuses
   * @throws {ConnectionError} when it cannot be reached
   */
  async fetch<Result>(path: string): Promise<Result> {
    return (await (await this.request('GET', path)).json()) as Result;
  }

  /** Sends something as JSON over HTTP and reads the answer. Throws as {@link fetch} does. */
  async post<Result>(path: string, body: unknown): Promise<Result> {
    return (await (await this.request('POST', path, body)).json()) as Result;
  }

  /** Reads a long answer over HTTP, piece by piece as text. With a body it is sent as JSON. Throws as {@link fetch} does. */
  async *stream(path: string, body: unknown, accept: string, signal?: AbortSignal): AsyncGenerator<string> {
    const response = await this.request(body === undefined ? 'GET' : 'POST', path, body, accept, signal);
    const decoder = new TextDecoder();
    const reader = response.body!.getReader();
    try {
      for (let piece = await reader.read(); !piece.done; piece = await reader.read())
        yield decoder.decode(piece.value, { stream: true });
    } catch {
      throw new ConnectionError('The connection broke before the answer was complete.');
    } finally {
      // Whoever stops reading early has the service stop, too.
      reader.cancel().catch(() => undefined);
    }
  }

  /** Makes a request over HTTP with the key. Throws as {@link fetch} does. */
  async request(
    method: string,
    path: string,
    body?: unknown,
    accept = 'application/json',
    signal?: AbortSignal,
  ): Promise<Response> {
    const authorization = await this.#authorization();
    let response: Response;
    try {
      response = await fetch(this.url + path, {
        method,
        headers: {
          ...authorization,
          accept,
          ...(body === undefined ? {} : { 'content-type': 'application/json' }),
        },
        body: body === undefined ? null : JSON.stringify(body),
        signal: signal ?? null,
      });
    } catch (error) {
      throw new ConnectionError(`Nothing answers at ${this.url}${describeCause(error)}.`);
    }
    if (response.ok) return response;
    const problem = (await response.json().catch(() => undefined)) as Problem | undefined;
    if (problem?.type) throw new ProblemError(problem);
    throw new ConnectionError(`${this.url} answers, but not as a store does (HTTP status ${response.status}).`);
  }

  readonly #authorization = async (): Promise<Record<string, string>> => {
    const token = await tokenOf(this.#options.token);
    return token === undefined ? {} : { authorization: `Bearer ${token}` };
  };

  /** Goes the way to the store step by step and says of each whether it can be gone; stops at the first that cannot. */
  async check(): Promise<CheckStep[]> {
    const { checkWay } = await import('./uproar-more.js');
    return checkWay(
      this,
      () => this.#helloAt,
      () => this.#way.isHttp,
      this.#options.token !== undefined,
    );
  }

  /** Gets a token anew and goes on with it: after signing in as somebody else, or when claims have altered. */
  renew(): void {
    this.#link.renew();
  }

  /** Closes the connection and all watches. What waits in the outbox stays in the storage. */
  close(): void {
    for (const { subscription, watches, endTimer, keepTimer } of this.#shared.values()) {
      clearTimeout(endTimer);
      if (keepTimer) this.#keepNow(subscription);
      clearTimeout(keepTimer);
      for (const watch of [...watches]) watch.close();
    }
    for (const { endTimer } of this.#shared.values()) clearTimeout(endTimer);
    this.#shared.clear();
    this.#outbox?.close();
    this.#link.close();
    void this.#storage.close();
  }

  /** The writes that a watch has to show over what the store told. For watches. */
  pendingWrites({ scope, base }: Subscription): PendingWrite[] {
    const concerned: PendingWrite[] = [];
    for (const { write, seq, until } of this.#echoes) {
      if (seq > base.seq && until > Date.now() && scope.concerns(write.write)) concerned.push(write);
    }
    for (const write of this.#outbox?.writes() ?? []) {
      const arrived = write.seq !== undefined && write.seq <= base.seq;
      if (!arrived && scope.concerns(write.write)) concerned.push(write);
    }
    return concerned;
  }

  /** A document as the store last told it, in any view. For watches. */
  known(address: string): Document | undefined {
    const { collection, id } = splitAddress(address);
    for (const { subscription } of this.#shared.values()) {
      if (subscription.scope.collection !== collection) continue;
      const document = subscription.document(id);
      if (document?.version !== undefined) return document;
    }
    return undefined;
  }

  /** Tells of a document that does not fit its schema. For collections. */
  reportMisfit(misfit: Misfit): void {
    if (this.#options.onMisfit) this.#options.onMisfit(misfit);
    else
      console.error(
        `${formatAddress(misfit.collection, misfit.id)} does not fit its schema: ${misfit.message} (at ${misfit.pointer})`,
      );
  }

  #begin(key: string, target: WatchTarget): Shared {
    const subscription = new Subscription(target, () => this.#link);
    const shared: Shared = { subscription, watches: new Set(), endTimer: undefined, keepTimer: undefined };
    this.#shared.set(key, shared);
    const { state } = this;
    const start = () => {
      if (this.state.name === 'online') subscription.begin();
      else if (this.state.name === 'refused') subscription.fail(new ProblemError(this.state.problem));
    };
    if (this.#storage instanceof MemoryStorage || state.name === 'refused') start();
    else {
      void this.#storage
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
    if (stored) this.#storage.putView(JSON.stringify(target), stored).catch(() => undefined);
  }

  #leave(key: string, shared: Shared, watch: Watch): void {
    shared.watches.delete(watch);
    if (shared.watches.size > 0) return;
    const end = () => {
      if (this.#shared.get(key) === shared) this.#shared.delete(key);
      shared.subscription.end();
    };
    if (this.state.name === 'closed') end();
    else shared.endTimer = setTimeout(end, this.#options.graceMs ?? 3000);
  }

  #outboxChanged(commit: WireCommit, receipt: Receipt | undefined): void {
    if (receipt && this.#way.isHttp) this.#echo(commit, receipt);
    this.#refresh(commit);
  }

  /** Has the watches that a commit concerns show the pending writes as they are now. */
  #refresh(commit: WireCommit): void {
    const writes = pendingWritesOf(commit, 0);
    for (const { subscription, watches } of this.#shared.values()) {
      if (writes.some(({ write }) => subscription.scope.concerns(write))) for (const watch of watches) watch.refresh();
    }
  }

  /** Over HTTP an answer may come before the event stream has brought what it is about. */
  #echo(commit: WireCommit, { seq }: Receipt): void {
    const now = Date.now();
    this.#echoes = this.#echoes.filter(({ until }) => until > now);
    for (const write of pendingWritesOf(commit, now)) this.#echoes.push({ write, seq, until: now + ECHO_MS });
    setTimeout(() => this.#refresh(commit), ECHO_MS + 1);
  }

  #stateChanged(state: ConnectionState): void {
    if (state.name === 'online') {
      if (this.#helloAt === 0) this.files.resume().catch(() => undefined);
      this.#helloAt = Date.now();
      this.#maxCommitBytes = state.server.maxCommitBytes ?? DEFAULT_COMMIT_BYTES;
      void this.#resume();
    } else {
      for (const { subscription } of this.#shared.values()) {
        if (state.name === 'refused') subscription.fail(new ProblemError(state.problem));
        else subscription.setStale();
      }
    }
    for (const subscriber of this.#subscribers) subscriber(state);
  }

  /** Sends what was cut off first: until its outcome is known, views could not tell whether they hold it already. */
  async #resume(): Promise<void> {
    const link = this.#link;
    const unsure = this.#outbox?.settledUnsure();
    this.#outbox?.pump();
    if (unsure) {
      await Promise.race([
        this.#outbox!.settledUnsure(),
        new Promise((resolve) => setTimeout(resolve, UNSURE_WAIT_MS)),
      ]);
      if (this.#link !== link || this.state.name !== 'online') return;
    }
    for (const { subscription } of this.#shared.values()) if (!subscription.begun) subscription.begin();
  }

  #notified(name: string, params: unknown): void {
    if (name === 'alive') return;
    if (name === 'accepted') {
      const { id, seq } = params as { id: string; seq: number };
      this.#outbox?.accepted(id, seq);
      return;
    }
    // What may be seen has altered, and with it the name of the watch.
    const { watch, was = watch } = params as { watch: string; was?: string };
    for (const { subscription } of this.#shared.values()) {
      if (subscription.name === watch || subscription.name === was) this.#notify(subscription, name, params);
    }
  }

  #notify(subscription: Subscription, name: string, params: unknown): void {
    if (name === 'end') {
      const { problem } = params as { problem: Problem };
      // A service that stops comes back; the watch goes on when the connection does.
      if (problem.status !== 503) subscription.fail(new ProblemError(problem));
      // A token that ran out may be followed by another.
      if (problem.status === 401 && typeof this.#options.token === 'function') this.#link.renew();
    } else subscription.take(params as LiveResults['watch']);
  }
}

function describeCause(error: unknown): string {
  const { cause } = error as { cause?: { code?: string } };
  return cause?.code ? ` (${cause.code})` : '';
}
