import { createParser, type EventSourceMessage } from 'eventsource-parser';
import { ProblemError } from '@uproar/protocol/problem-error';
import type { LiveMethod, LiveParams, LiveResults, Problem, WatchTarget } from '@uproar/protocol';
import { ConnectionError, SILENCE_MS, type ConnectionState, type Link, type LinkListener } from './link.js';
import type { HttpRequests } from './http-requests.js';
import { isFinal } from './problems.js';

/** The first request of a connection is answered within this time, in milliseconds. */
const CONNECT_MS = 10_000;

/** What a link over HTTP needs from outside. */
export interface HttpLinkOptions {
  requests: HttpRequests;
  backoffMs: (failures: number) => number;
}

/**
 * The transport for networks that block WebSockets: a request for each call, and an event stream for each watch. Streams are
 * read with `fetch`, which can send the key, unlike the browser's own `EventSource`.
 */
export class HttpLink implements Link {
  readonly keepsOrder = false;
  readonly #options: HttpLinkOptions;
  readonly #listener: LinkListener;
  readonly #streams = new Map<string, AbortController>();
  #state: ConnectionState = { name: 'connecting' };
  #lastName = 0;
  #failures = 0;
  #retryTimer: ReturnType<typeof setTimeout> | undefined;

  constructor(options: HttpLinkOptions, listener: LinkListener) {
    this.#options = options;
    this.#listener = listener;
    void this.#connect();
  }

  get state(): ConnectionState {
    return this.#state;
  }

  request<Method extends LiveMethod>(
    method: Method,
    params: LiveParams[Method],
    resolve: (result: LiveResults[Method]) => void,
    reject: (error: Error) => void,
  ): void {
    if (this.#state.name === 'closed') return reject(new ConnectionError('The store was closed.'));
    if (method === 'watch') {
      void this.#watch(params as LiveParams['watch'], resolve as (first: LiveResults['watch']) => void, reject);
    } else if (method === 'unwatch') {
      const { watch } = params as LiveParams['unwatch'];
      this.#streams.get(watch)?.abort();
      this.#streams.delete(watch);
      resolve({} as LiveResults[Method]);
    } else this.#call(method, params).then((result) => resolve(result as LiveResults[Method]), reject);
  }

  renew(): void {
    if (this.#state.name !== 'closed') this.#lost('The client reconnects.', 0);
  }

  close(): void {
    this.#setState({ name: 'closed' });
    clearTimeout(this.#retryTimer);
    this.#abortStreams();
  }

  async #connect(): Promise<void> {
    this.#setState({ name: 'connecting' });
    try {
      // A connection that the platform has kept may be dead. It is given up after a failure.
      const response = await this.#fetch('GET', '/v1/collections', undefined, {}, AbortSignal.timeout(CONNECT_MS));
      const { seq } = (await response.json()) as { seq: number };
      const time = new Date(response.headers.get('date') ?? Date.now()).toISOString();
      this.#failures = 0;
      const server = { store: '', serverVersion: '', seq, time, identity: { kind: 'key', name: '' } } as const;
      this.#setState({ name: 'online', server });
    } catch (error) {
      if (isFinal(error)) this.#setState({ name: 'refused', problem: error.problem });
      else this.#lost((error as Error).message);
    }
  }

  async #call(method: LiveMethod, params: unknown): Promise<unknown> {
    switch (method) {
      case 'get': {
        const { doc, at } = params as LiveParams['get'];
        return (await this.#fetch('GET', `/v1/data/${doc}${at === undefined ? '' : `?at=${at}`}`)).json();
      }
      case 'query':
        return (await this.#fetch('POST', '/v1/query', params)).json();
      case 'commit':
        return (await this.#fetch('POST', '/v1/commits', params)).json();
      default:
        throw new ConnectionError(`"${method}" needs a WebSocket.`);
    }
  }

  async #watch(
    { resume, ...target }: LiveParams['watch'],
    resolve: (first: LiveResults['watch']) => void,
    reject: (error: Error) => void,
  ): Promise<void> {
    const watch = `h${++this.#lastName}`;
    const abort = new AbortController();
    this.#streams.set(watch, abort);
    let begun = false;
    try {
      const [method, path, body] = requestFor(target as WatchTarget);
      const headers: Record<string, string> = { accept: 'text/event-stream' };
      if (resume !== undefined) headers['last-event-id'] = resume;
      const response = await this.#fetch(method, path, body, headers, abort.signal);
      for await (const { event, id, data } of readEvents(response.body!, () => abort.abort())) {
        if (abort.signal.aborted) return;
        if (event === 'end') return this.#ended(watch, JSON.parse(data) as Problem, begun, reject);
        const params = { watch, resume: id, ...(JSON.parse(data) as object) };
        if (!begun) resolve(params as unknown as LiveResults['watch']);
        else this.#listener.notified(event === 'change' ? 'change' : 'reset', params as never);
        begun = true;
      }
      if (this.#streams.has(watch)) this.#lost('The event stream ended.');
    } catch (error) {
      if (!begun && error instanceof ProblemError && error.problem.status < 500) reject(error);
      else if (this.#streams.has(watch)) this.#lost((error as Error).message);
    } finally {
      this.#streams.delete(watch);
    }
  }

  /** A watch that is not allowed or costs too much has ended; all else, and a token that has expired, is a reason to connect again. */
  #ended(watch: string, problem: Problem, begun: boolean, reject: (error: Error) => void): void {
    this.#streams.delete(watch);
    if (![403, 422, 429].includes(problem.status)) this.#lost(problem.detail);
    else if (begun) this.#listener.notified('end', { watch, problem } as never);
    else reject(new ProblemError(problem));
  }

  async #fetch(
    method: string,
    path: string,
    body?: unknown,
    headers: Record<string, string> = {},
    signal?: AbortSignal,
  ): Promise<Response> {
    try {
      return await this.#options.requests.send(method, path, {
        body,
        headers,
        signal: signal ?? AbortSignal.timeout(SILENCE_MS),
      });
    } catch (error) {
      const unreachable = error instanceof ConnectionError && this.#state.name === 'online';
      if (unreachable && !signal?.aborted) this.#lost(error.message);
      throw error;
    }
  }

  #lost(reason: string, retryInMs = this.#options.backoffMs(this.#failures++)): void {
    if (this.#state.name === 'closed' || this.#state.name === 'offline') return;
    this.#abortStreams();
    this.#retryTimer = setTimeout(() => void this.#connect(), retryInMs);
    this.#setState({ name: 'offline', reason, retryInMs });
  }

  #abortStreams(): void {
    const streams = [...this.#streams.values()];
    this.#streams.clear();
    for (const stream of streams) stream.abort();
  }

  #setState(state: ConnectionState): void {
    if (this.#state.name === 'closed') return;
    this.#state = state;
    this.#listener.stateChanged(state);
  }
}

function requestFor(target: WatchTarget): [method: string, path: string, body?: unknown] {
  if ('doc' in target) return ['GET', `/v1/data/${target.doc}`];
  if ('collections' in target) return ['GET', '/v1/collections'];
  return ['POST', '/v1/query', target.query];
}

/**
 * Reads the events of a stream (HTML Standard, section 9.2.6). `onSilence` is called when nothing arrives for
 * {@link SILENCE_MS}.
 */
async function* readEvents(
  body: ReadableStream<Uint8Array>,
  onSilence: () => void,
): AsyncGenerator<EventSourceMessage> {
  const events: EventSourceMessage[] = [];
  const parser = createParser({ onEvent: (event) => events.push(event) });
  const decoder = new TextDecoder();
  const reader = body.getReader();
  for (;;) {
    const timer = setTimeout(onSilence, SILENCE_MS);
    const piece = await reader.read().finally(() => clearTimeout(timer));
    if (piece.done) return;
    parser.feed(decoder.decode(piece.value, { stream: true }));
    yield* events.splice(0);
  }
}
