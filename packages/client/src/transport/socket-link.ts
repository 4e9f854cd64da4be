import { ProblemError } from '@uproar/protocol/problem-error';
import type {
  LiveMethod,
  LiveNotifications,
  LiveParams,
  LiveResults,
  Problem,
  RpcAnswer,
  RpcNotification,
} from '@uproar/protocol';
import {
  ConnectionError,
  SILENCE_MS,
  tokenOf,
  type ConnectionState,
  type Link,
  type LinkListener,
  type Token,
} from './link.js';
import { isFinal } from './problems.js';
import type { OpenSocket, SocketLike } from './socket.js';

/** What a connection needs from outside. */
export interface SocketLinkOptions {
  /** Where to connect. It may be another address each time. */
  url: () => string;
  token?: Token | undefined;
  device?: string | undefined;
  openSocket: OpenSocket;
  /** Waits before another try: the n-th failure in a row, from 0. In milliseconds. */
  backoffMs?: (failures: number) => number;
  /** How long a call may wait for a connection or an answer, in milliseconds. */
  callTimeoutMs?: number;
}

interface PendingCall {
  method: LiveMethod;
  text: string;
  sent: boolean;
  resolve(result: unknown): void;
  reject(error: Error): void;
  timer: ReturnType<typeof setTimeout>;
}

/** The client waits for a large message at this rate or faster. */
const SLOWEST_BYTES_PER_MS = 32;

/** A token that could not be had in time is asked for again after so long. */
const RENEW_AGAIN_MS = 5000;

/** Waits a little longer after each failure, up to 15 s, and never as long as another device does. */
export function defaultBackoffMs(failures: number): number {
  return Math.random() * Math.min(15_000, 250 * 2 ** failures) + 50;
}

/** One lasting connection: it speaks JSON-RPC 2.0 over a WebSocket and opens another when that breaks. */
export class SocketLink implements Link {
  readonly keepsOrder = true;
  readonly #options: SocketLinkOptions;
  readonly #listener: LinkListener;
  readonly #calls = new Map<number, PendingCall>();
  #socket: SocketLike | undefined;
  #state: ConnectionState = { name: 'connecting' };
  #lastId = 0;
  /** The newest seq that came from the store. Another node must have it, too, before it answers. */
  #seen = 0;
  #failures = 0;
  /** Whether a socket was ever open. If not, a proxy may block WebSockets. */
  everOpened = false;
  #renewTimer: ReturnType<typeof setTimeout> | undefined;
  #retryTimer: ReturnType<typeof setTimeout> | undefined;
  #silenceTimer: ReturnType<typeof setTimeout> | undefined;
  /** Until when the client waits for an announced large message. */
  #patientUntilMs = 0;

  constructor(options: SocketLinkOptions, listener: LinkListener) {
    this.#options = options;
    this.#listener = listener;
    this.#open();
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
    if (this.#state.name === 'refused') return reject(new ProblemError(this.#state.problem));
    const id = ++this.#lastId;
    const text = JSON.stringify({ jsonrpc: '2.0', id, method, params });
    const timer = setTimeout(() => this.#giveUp(id), this.#options.callTimeoutMs ?? 15_000);
    const call: PendingCall = {
      method,
      text,
      sent: false,
      resolve: resolve as (result: unknown) => void,
      reject,
      timer,
    };
    this.#calls.set(id, call);
    if (this.#state.name === 'online' || method === 'hello') this.#transmit(call);
  }

  /** Ends the connection for a reason that a retry does not fix; `renew` tries again. */
  refuse(problem: Problem): void {
    clearTimeout(this.#retryTimer);
    this.#refused(problem);
  }

  renew(): void {
    if (this.#state.name === 'closed') return;
    if (this.#state.name === 'online') return void this.#hello();
    this.#dropSocket();
    clearTimeout(this.#retryTimer);
    this.#rejectCalls((call) => call.sent, brokenOff());
    this.#open();
  }

  close(): void {
    this.#setState({ name: 'closed' });
    this.#dropSocket();
    clearTimeout(this.#retryTimer);
    this.#rejectCalls(() => true, new ConnectionError('The store was closed.'));
  }

  #open(): void {
    this.#setState({ name: 'connecting' });
    const url = this.#options.url();
    let socket: SocketLike;
    try {
      socket = this.#options.openSocket(url);
    } catch (error) {
      return this.#lost(error instanceof Error ? error.message : String(error));
    }
    this.#socket = socket;
    let reason = '';
    socket.onopen = () => {
      this.everOpened = true;
      if (this.#socket === socket) void this.#hello();
    };
    socket.onmessage = ({ data }) => {
      if (this.#socket === socket) this.#receive(String(data));
    };
    socket.onerror = ({ message }) => (reason = message ?? reason);
    socket.onclose = (event) => {
      if (this.#socket !== socket) return;
      this.#socket = undefined;
      this.#lost(reason || event.reason || `No answer from ${url}.`);
    };
    this.#listenForSilence();
  }

  async #hello(): Promise<void> {
    try {
      const socket = this.#socket;
      const token = await tokenOf(this.#options.token);
      if (this.#socket !== socket) return;
      const server = await new Promise<LiveResults['hello']>((resolve, reject) =>
        this.request('hello', { token, device: this.#options.device, seen: this.#seen || undefined }, resolve, reject),
      );
      if (this.#socket !== socket) return;
      this.#renewBefore(server.identity.expires);
      this.#failures = 0;
      this.#setState({ name: 'online', server });
      for (const call of this.#calls.values()) if (!call.sent) this.#transmit(call);
    } catch (error) {
      if (isFinal(error)) this.#refused(error.problem);
      else if (this.#state.name === 'online') this.#renewIn(RENEW_AGAIN_MS);
      else this.#socket?.close();
    }
  }

  /** Requests another token in time and calls `hello` with it, so that watches continue. */
  #renewBefore(expires: string | undefined): void {
    clearTimeout(this.#renewTimer);
    if (expires === undefined || typeof this.#options.token !== 'function') return;
    this.#renewIn(Math.max((Date.parse(expires) - Date.now()) * 0.8, 1000));
  }

  #renewIn(ms: number): void {
    // A timer takes no more than 2^31 ms.
    this.#renewTimer = setTimeout(() => void this.#hello(), Math.min(ms, 2 ** 31 - 1));
  }

  #refused(problem: Problem): void {
    this.#setState({ name: 'refused', problem });
    this.#dropSocket();
    this.#rejectCalls(() => true, new ProblemError(problem));
  }

  #lost(reason: string): void {
    if (this.#state.name === 'closed' || this.#state.name === 'refused') return;
    this.#dropSocket();
    this.#rejectCalls((call) => call.sent, brokenOff());
    const retryInMs = (this.#options.backoffMs ?? defaultBackoffMs)(this.#failures++);
    this.#retryTimer = setTimeout(() => this.#open(), retryInMs);
    this.#setState({ name: 'offline', reason, retryInMs });
  }

  #dropSocket(): void {
    clearTimeout(this.#silenceTimer);
    clearTimeout(this.#renewTimer);
    const socket = this.#socket;
    this.#socket = undefined;
    socket?.close();
  }

  /** @param nextBytes the size of a large message that comes next; nothing is seen of it until it is complete */
  #listenForSilence(nextBytes = 0): void {
    clearTimeout(this.#silenceTimer);
    const patienceMs = nextBytes / SLOWEST_BYTES_PER_MS;
    this.#patientUntilMs = Date.now() + patienceMs;
    this.#silenceTimer = setTimeout(() => this.#lost('The service does not respond.'), SILENCE_MS + patienceMs);
  }

  #transmit(call: PendingCall): void {
    call.sent = true;
    this.#socket!.send(call.text);
  }

  #receive(text: string): void {
    const message = JSON.parse(text) as RpcAnswer | RpcNotification;
    const { seq = 0, nextBytes } = (('method' in message ? message.params : 'result' in message && message.result) ||
      {}) as { seq?: number; nextBytes?: number };
    this.#listenForSilence(nextBytes);
    if (seq > this.#seen) this.#seen = seq;
    if ('method' in message) {
      this.#listener.notified(message.method as keyof LiveNotifications, message.params as never);
      return;
    }
    // A call that could not be read is answered without its id; where one alone waits, that is it.
    const sent = message.id === null ? [...this.#calls].filter(([, { sent }]) => sent) : [];
    const id = sent.length === 1 ? sent[0]![0] : Number(message.id);
    const call = this.#calls.get(id);
    if (!call) return;
    this.#calls.delete(id);
    clearTimeout(call.timer);
    if ('error' in message) call.reject(new ProblemError(message.error.data));
    else call.resolve(message.result);
  }

  #giveUp(id: number): void {
    const call = this.#calls.get(id);
    const patienceMs = this.#patientUntilMs - Date.now();
    if (call && patienceMs > 0) {
      call.timer = setTimeout(() => this.#giveUp(id), patienceMs);
      return;
    }
    this.#calls.delete(id);
    const why = this.#state.name === 'offline' ? `: ${this.#state.reason}` : '.';
    call?.reject(new ConnectionError(`No answer to "${call.method}" came in time${why}`));
  }

  #rejectCalls(which: (call: PendingCall) => boolean, error: Error): void {
    for (const [id, call] of this.#calls) {
      if (!which(call)) continue;
      this.#calls.delete(id);
      clearTimeout(call.timer);
      call.reject(error);
    }
  }

  #setState(state: ConnectionState): void {
    if (this.#state.name === 'closed') return;
    this.#state = state;
    this.#listener.stateChanged(state);
  }
}

function brokenOff(): ConnectionError {
  return new ConnectionError('The connection broke; it is unknown whether the call was executed.');
}
