import { createIdGenerator, type JsonObject } from '@uproar/core';
import type {
  LiveMethod,
  LiveNotifications,
  LiveParams,
  LiveResults,
  Receipt,
  WatchTarget,
  WireCommit,
} from '@uproar/protocol';
import { ProblemError } from '@uproar/protocol/problem-error';
import { Collection, type CollectionOptions } from './collections/collection.js';
import type { DataOf, Schema, SchemaCheck, Schemas, SchemaViolation } from './schema/schema.js';
import type { TypedCommit } from './collections/commit-types.js';
import type { NamesOf } from './collections/related-types.js';
import type { Transaction } from './collections/transaction.js';
import { Files } from './files/files.js';
import type { ConnectOptions } from './options.js';
import { Outbox } from './outbox/outbox.js';
import { checkSendable } from './outbox/sendable.js';
import type { Presence } from './presence/presence-handle.js';
import { MemoryStorage, type ClientStorage } from './storage/storage.js';
import type { StoreAccess } from './store-access.js';
import type { CheckStep } from './transport/check-connection.js';
import { HttpRequests } from './transport/http-requests.js';
import { ConnectionError, type ConnectionState, type Link } from './transport/link.js';
import { TransportSelection } from './transport/select-transport.js';
import type { OpenSocket } from './transport/socket.js';
import { WatchRegistry } from './views/watch-registry.js';
import type { Watch } from './views/watch.js';

/** How long a view may wait after a reconnect for the outcome of writes that were cut off, in milliseconds. */
const UNSURE_WAIT_MS = 3000;

/** What a commit may have as JSON as long as the store has not said otherwise. */
const DEFAULT_COMMIT_BYTES = 16 * 1024 * 1024;

/**
 * A store somewhere else: its collections, watches, pending writes and connection. Without a type argument it stands for a
 * store with any schemas.
 */
// eslint-disable-next-line @typescript-eslint/no-explicit-any
export class Store<Known extends Schemas = any> implements StoreAccess {
  /** An id for a new document. Later ids sort behind earlier ones. */
  readonly newId = createIdGenerator({ now: Date.now, random: (bytes) => crypto.getRandomValues(bytes) });
  /** The files of the store. */
  readonly files: Files;
  readonly #urls: readonly string[];
  /** Which address is in use. Clients begin with different ones, so that the nodes share them. */
  #at = 0;
  readonly #options: ConnectOptions & { openSocket: OpenSocket };
  readonly #storage: ClientStorage;
  readonly #outbox: Outbox | undefined;
  readonly #requests: HttpRequests;
  readonly #watches: WatchRegistry;
  readonly #subscribers = new Set<(state: ConnectionState) => void>();
  readonly #transport: TransportSelection;
  /** When the service reported its time, by the local clock. */
  #helloAt = 0;
  #maxCommitBytes = DEFAULT_COMMIT_BYTES;

  /** Use `connect`. */
  constructor(urls: string | readonly string[], options: ConnectOptions & { openSocket: OpenSocket }) {
    this.#urls = [urls].flat().map((url) => {
      if (/^https?:\/\//i.test(url)) return new URL(url).origin;
      throw new TypeError(`The address of a store must start with http:// or https://; "${url}" does not.`);
    });
    this.#at = Math.floor(Math.random() * this.#urls.length);
    this.#options = options;
    this.#storage = options.storage ?? new MemoryStorage();
    this.#requests = new HttpRequests(() => this.url, options.token);
    this.#watches = new WatchRegistry({
      storage: this.#storage,
      graceMs: options.graceMs,
      link: () => this.#link,
      outbox: () => this.#outbox,
      expired: () => {
        // A function can supply a new token.
        if (typeof options.token === 'function') this.#link.renew();
      },
    });
    this.files = new Files({
      store: this,
      storage: this.#storage,
      headers: this.#requests.authorization,
      onRefused: options.onUploadRefused,
    });
    this.#transport = new TransportSelection({
      url: () => this.url,
      options,
      requests: this.#requests,
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

  /** Where the store is, for example `http://127.0.0.1:4680`. Of several nodes, the one that is in use. */
  get url(): string {
    return this.#urls[this.#at]!;
  }

  get #link(): Link {
    return this.#transport.link;
  }

  /** Where the connection stands, and why. */
  get state(): ConnectionState {
    return this.#link.state;
  }

  /** How many writes wait to be acknowledged. */
  get pending(): number {
    return this.#outbox?.size ?? 0;
  }

  /**
   * Calls `subscriber` with the state of the connection: at once, whenever it changes, and when {@link pending} does.
   * Returns a stop function.
   */
  subscribe(subscriber: (state: ConnectionState) => void): () => void {
    this.#subscribers.add(subscriber);
    subscriber(this.state);
    return () => this.#subscribers.delete(subscriber);
  }

  /**
   * Waits for the first answer of the service.
   *
   * @throws {ProblemError} when it refuses
   * @throws {ConnectionError} when it cannot be reached, at none of its addresses
   */
  ready(): Promise<LiveResults['hello']> {
    let left = this.#urls.length;
    return new Promise((resolve, reject) => {
      const settle = (state: ConnectionState) => {
        if (state.name === 'online') resolve(state.server);
        else if (state.name === 'refused') reject(new ProblemError(state.problem));
        else if (state.name === 'offline' && --left === 0) reject(new ConnectionError(state.reason));
        else if (state.name === 'closed') reject(new ConnectionError('The store was closed.'));
        else return;
        queueMicrotask(() => stop());
      };
      const stop = this.subscribe(settle);
    });
  }

  /** A collection whose schema the store was connected with. */
  collection<Name extends NamesOf<Known>>(name: Name): Collection<DataOf<Known[Name]>, Known>;
  /** A collection of the store, whether anything is in it or not. Without a schema, nothing checks the type. */
  collection<Data = JsonObject>(name: string): Collection<Data, Known>;
  /**
   * A collection whose documents are of a known type.
   *
   * @param schema of the documents: a Zod schema, or any other that follows Standard Schema. Documents that do not match are
   * reported with their id and the field, and kept, dropped, or end the view.
   */
  collection<S extends Schema<unknown>>(
    name: string,
    schema: S,
    options?: CollectionOptions,
  ): Collection<DataOf<S>, Known>;
  collection(name: string, schema?: Schema<unknown>, options?: CollectionOptions): unknown {
    return new Collection(this, name, schema ?? this.#options.collections?.[name], options);
  }

  /** Keeps the list of collections in view, each in the form of a document with its counts as data. */
  watchCollections(): Watch {
    return this.watch({ collections: true });
  }

  /** Keeps something in view. Watches of the same thing share what the service sends. Views have the order themselves. */
  watch(target: WatchTarget & { query?: { ordered?: never } }, check?: SchemaCheck): Watch {
    return this.#watches.open(target, check);
  }

  /**
   * Writes several documents, all or none. They appear in views at once, as pending; the promise resolves when they are
   * acknowledged, however long that takes.
   *
   * The fields of collections whose schemas the store was connected with are checked when the program is compiled.
   *
   * @throws {ProblemError} when the commit is refused; `write` is the index of the refused write. Views undo the commit
   *   then.
   * @throws {ConnectionError} only with the outbox off, when no answer arrived
   */
  async commit<const Writes extends WireCommit['writes']>(commit: TypedCommit<Writes, Known>): Promise<Receipt> {
    return this.commitOf(commit as unknown as WireCommit, false);
  }

  /**
   * Like {@link commit}. `retried`: the caller starts again after a conflict with a document it read. For transactions.
   */
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
    const { repeatUntilDone } = await import('./deferred.js');
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
    const { readText } = await import('./deferred.js');
    yield* readText(await this.request(body === undefined ? 'GET' : 'POST', path, body, accept, signal));
  }

  /** Sends a request over HTTP with the token. Throws as {@link fetch} does. */
  async request(
    method: string,
    path: string,
    body?: unknown,
    accept = 'application/json',
    signal?: AbortSignal,
  ): Promise<Response> {
    return this.#requests.send(method, path, { body, headers: { accept }, signal });
  }

  /** See `present` of a collection. */
  async present(address: string, data: JsonObject): Promise<Presence> {
    return (await import('./deferred.js')).present(this, address, data);
  }

  /** Checks the connection step by step: address, key, live connection and clock. Stops at the first failing step. */
  async check(): Promise<CheckStep[]> {
    const { checkConnection } = await import('./deferred.js');
    // Connecting finds an address that answers.
    if (this.#urls.length > 1) await this.ready().catch(() => undefined);
    return checkConnection(
      this,
      () => this.#helloAt,
      () => this.#transport.isHttp,
      this.#options.token !== undefined,
    );
  }

  /**
   * Requests a new token and reconnects with it: for example after another user has signed in, or when claims have
   * changed.
   */
  renew(): void {
    this.#link.renew();
  }

  /** Closes the connection and all watches. What waits in the outbox stays in the storage. */
  close(): void {
    this.#watches.close();
    this.#outbox?.close();
    this.#link.close();
    void this.#storage.close();
  }

  /** Reports a document that violates its schema. For collections. */
  reportViolation(violation: SchemaViolation): void {
    if (this.#options.onViolation) this.#options.onViolation(violation);
    else void import('./deferred.js').then(({ printViolation }) => printViolation(violation));
  }

  #outboxChanged(commit: WireCommit, receipt: Receipt | undefined): void {
    if (receipt && this.#transport.isHttp) this.#watches.echo(commit, receipt);
    this.#watches.refresh(commit);
    this.#announce(this.state);
  }

  #stateChanged(state: ConnectionState): void {
    if (state.name === 'online') {
      if (this.#helloAt === 0) this.files.resume().catch(() => undefined);
      this.#helloAt = Date.now();
      this.#maxCommitBytes = state.server.maxCommitBytes ?? DEFAULT_COMMIT_BYTES;
      void this.#resume();
    } else {
      if (state.name === 'offline') this.#at = (this.#at + 1) % this.#urls.length;
      this.#watches.disconnected(state);
      // Pages tell developers what to do about it.
      if (state.name !== 'connecting' && 'document' in globalThis)
        import('./deferred.js').then(({ warnOf }) => warnOf(this)).catch(() => undefined);
    }
    this.#announce(state);
  }

  #announce(state: ConnectionState): void {
    for (const subscriber of this.#subscribers) subscriber(state);
  }

  /** Sends interrupted writes first: until their outcome is known, views cannot tell whether they contain them. */
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
    this.#watches.beginAll();
  }

  #notified(name: string, params: unknown): void {
    if (name === 'alive') {
      const { state } = this;
      const { staleSince } = params as LiveNotifications['alive'];
      if (state.name === 'online' && state.server.staleSince !== staleSince) {
        state.server.staleSince = staleSince;
        this.#announce({ ...state });
      }
    } else if (name === 'accepted') {
      const { id, seq } = params as LiveNotifications['accepted'];
      this.#outbox?.accepted(id, seq);
    } else this.#watches.notified(name, params);
  }
}
