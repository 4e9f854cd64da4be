import type { LiveMethod, LiveParams, LiveResults, Problem, Receipt, WatchTarget, WireCommit } from '@uproar/protocol';
import { ProblemError } from '@uproar/protocol/problem-catalogue';
import { Collection } from './collection.js';
import { Connection, ConnectionError, type ConnectionOptions, type ConnectionState } from './connection.js';
import { Watch } from './watch.js';

/** One step of the way to a store, and whether it can be gone. */
export interface CheckStep {
  step: 'address' | 'key' | 'live';
  ok: boolean;
  detail: string;
}

/** A store somewhere else: its collections, its watches and the connection to it. */
export class Store {
  /** Where the store is, for example `http://127.0.0.1:4680`. */
  readonly url: string;
  readonly #token: string;
  readonly #connection: Connection;
  readonly #watches = new Set<Watch>();
  readonly #subscribers = new Set<(state: ConnectionState) => void>();

  constructor(url: string, options: Omit<ConnectionOptions, 'url'>) {
    const base = new URL(url);
    if (base.protocol !== 'http:' && base.protocol !== 'https:') {
      throw new TypeError(`The address of a store begins with http:// or https://, not ${base.protocol}//`);
    }
    this.url = base.origin;
    this.#token = options.token;
    const liveUrl = `${base.origin.replace(/^http/, 'ws')}/v1/live`;
    this.#connection = new Connection(
      { ...options, url: liveUrl },
      {
        stateChanged: (state) => this.#stateChanged(state),
        notified: (name, params) => {
          if (name === 'alive') return;
          const { watch: name_ } = params as { watch: string };
          for (const watch of this.#watches) if (watch.name === name_) this.#notify(watch, name, params);
        },
      },
    );
  }

  /** Where the connection stands, and why. */
  get state(): ConnectionState {
    return this.#connection.state;
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
  collection(name: string): Collection {
    return new Collection(this, name);
  }

  /** Keeps the list of collections in view, each in the form of a document with its counts as data. */
  watchCollections(): Watch {
    return this.watch({ collections: true });
  }

  /** Keeps something in view. */
  watch(target: WatchTarget): Watch {
    const watch = new Watch(this.#connection, target, (closed) => this.#watches.delete(closed));
    this.#watches.add(watch);
    if (this.state.name === 'online') watch.begin();
    else if (this.state.name === 'refused') watch.fail(new ProblemError(this.state.problem));
    return watch;
  }

  /**
   * Writes several documents, all or none.
   *
   * @throws {ProblemError} when the commit is refused; its `write` tells which write was at fault
   * @throws {ConnectionError} when no answer came
   */
  commit(commit: WireCommit): Promise<Receipt> {
    return this.call('commit', commit);
  }

  /** Calls the service over the live connection. */
  call<Method extends LiveMethod>(method: Method, params: LiveParams[Method]): Promise<LiveResults[Method]> {
    return this.#connection.call(method, params);
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
  async *stream(path: string, body: unknown, accept: string): AsyncGenerator<string> {
    const response = await this.request(body === undefined ? 'GET' : 'POST', path, body, accept);
    const decoder = new TextDecoder();
    const reader = response.body!.getReader();
    try {
      for (let piece = await reader.read(); !piece.done; piece = await reader.read())
        yield decoder.decode(piece.value, { stream: true });
    } catch {
      throw new ConnectionError('The connection broke before the answer was complete.');
    }
  }

  /** Makes a request over HTTP with the key. Throws as {@link fetch} does. */
  async request(method: string, path: string, body?: unknown, accept = 'application/json'): Promise<Response> {
    let response: Response;
    try {
      response = await fetch(this.url + path, {
        method,
        headers: {
          authorization: `Bearer ${this.#token}`,
          accept,
          ...(body === undefined ? {} : { 'content-type': 'application/json' }),
        },
        body: body === undefined ? undefined : JSON.stringify(body),
      });
    } catch (error) {
      throw new ConnectionError(`Nothing answers at ${this.url}${describeCause(error)}.`);
    }
    if (response.ok) return response;
    const problem = (await response.json().catch(() => undefined)) as Problem | undefined;
    if (problem?.type) throw new ProblemError(problem);
    throw new ConnectionError(`${this.url} answers, but not as a store does (HTTP status ${response.status}).`);
  }

  /** Goes the way to the store step by step and says of each whether it can be gone; stops at the first that cannot. */
  async check(): Promise<CheckStep[]> {
    const steps: CheckStep[] = [];
    const attempt = async (step: CheckStep['step'], walk: () => Promise<string>): Promise<boolean> => {
      try {
        steps.push({ step, ok: true, detail: await walk() });
        return true;
      } catch (error) {
        steps.push({ step, ok: false, detail: error instanceof Error ? error.message : String(error) });
        return false;
      }
    };
    const reached = await attempt('address', async () => {
      const { status } = await this.fetch<{ status?: string }>('/healthz').catch((error: unknown) => {
        if (error instanceof SyntaxError) return { status: undefined };
        throw error;
      });
      if (status !== 'ok') throw new ConnectionError(`${this.url} answers, but it is no Uproar store.`);
      return `a store answers at ${this.url}`;
    });
    const accepted =
      reached &&
      (await attempt('key', async () => {
        await this.fetch('/v1/collections');
        return 'the key is accepted';
      }));
    if (accepted) {
      await attempt('live', async () => {
        await this.ready();
        return 'live connections pass';
      });
    }
    return steps;
  }

  /** Closes the connection and all watches. */
  close(): void {
    for (const watch of this.#watches) watch.close();
    this.#connection.close();
  }

  #stateChanged(state: ConnectionState): void {
    for (const watch of this.#watches) {
      if (state.name === 'online') watch.begin();
      else if (state.name === 'refused') watch.fail(new ProblemError(state.problem));
      else watch.setStale();
    }
    for (const subscriber of this.#subscribers) subscriber(state);
  }

  #notify(watch: Watch, name: string, params: unknown): void {
    if (name === 'end') {
      const { problem } = params as { problem: Problem };
      // A service that stops comes back; the watch goes on when the connection does.
      if (problem.status !== 503) watch.fail(new ProblemError(problem));
      return;
    }
    try {
      watch.take(params as LiveResults['watch']);
    } catch {
      watch.beginAnew();
    }
  }
}

function describeCause(error: unknown): string {
  const { cause } = error as { cause?: { code?: string } };
  return cause?.code ? ` (${cause.code})` : '';
}
