import { formatTime, splitAddress } from '@uproar/core';
import {
  type RpcCall,
  createProblem,
  LIVE_PARAMS,
  ProblemError,
  RPC_ERRORS,
  type LiveMethod,
  type LiveParams,
  type Problem,
  problemError,
} from '@uproar/protocol';
import type { Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import type { WebSocket } from 'ws';
import { limitHolder, readableAccess, readScopeOf } from '../requests/identity-scope.js';
import { auditFailure } from '../requests/credentials.js';
import type { Context } from '../requests/context.js';
import { describeIssue, asProblem } from '../requests/problems.js';
import { readDocumentAt } from '../reading/read-document.js';
import { readListing } from '../requests/read-listing.js';
import { type LiveConnection } from '../connections/connection-registry.js';
import { describeIdentity, formatIdentity, idSpaceOf, isGoverned, type Identity } from '../identity/identity.js';
import { findCallId, readCall, RpcFault } from './rpc-calls.js';
import { SocketWatches, type WatchOutput } from './socket-watches.js';
import { seenDocument } from '../reading/visible-document.js';
import { VERSION } from '../version.js';
import { frameEvent } from './encode-event.js';
import { frameText } from './frame.js';
import type { LiveEvent } from '../live/live-event.js';
import { ENVELOPE_BYTES } from '../requests/parse-body.js';
import { findStored } from '../store/index.js';

/** The address of the WebSocket. */
export const LIVE_PATH = '/v1/live';

/** A connection that has not said who it is by then is closed. */
const HELLO_WITHIN_MS = 10_000;

/** The calls of one connection are answered for so long before others are served. */
const SLICE_MS = 8;

/** Queries of one connection that are answered at the same time. */
const MAX_QUERIES = 4;

/** What can come together with the end of a message. */
const CHUNK_BYTES = 64 * 1024;

/** An incomplete message is counted from this many bytes on. */
const UNFINISHED_NOTED = 64 * 1024;

/** An answer is counted for this long after it was handed over; then it counts as unread. */
const HANDED_OVER_MS = 1000;

/** How long a connection may take to close, in milliseconds. */
const BREAK_OFF_MS = 2000;

/** Close codes (RFC 6455, section 7.4.1; 4000 and above are ours to define). */
const CLOSE = { restarting: 1012, brokenOff: 4000, noHello: 4401 } as const;

/** The parts of the service that a connection uses. */
export type SessionParts = Pick<
  Context,
  | 'accessLimits'
  | 'budgets'
  | 'bytes'
  | 'commitLimits'
  | 'committer'
  | 'connections'
  | 'identities'
  | 'maxUnreadBytes'
  | 'onFault'
  | 'rates'
  | 'recorder'
  | 'sockets'
  | 'store'
  | 'views'
>;

/**
 * One WebSocket connection: its calls (JSON-RPC 2.0), its watches and its output.
 *
 * The service stops reading from a connection that reads too slowly, so that its memory stays bounded. Answers to its
 * commits wait behind the changes of those commits.
 */
export class SocketSession implements WatchOutput, LiveConnection {
  readonly #context: SessionParts;
  readonly #socket: WebSocket;
  readonly #stream: Duplex;
  readonly #watches: SocketWatches;
  readonly #leave: () => void;
  #helloTimer: NodeJS.Timeout | undefined;
  /** True while the caller is being authenticated; further calls wait. */
  #recognising = false;
  identity: Identity | undefined;
  #throttled: { error: ProblemError; untilMs: number } | undefined;
  #heldAnswers: string[] = [];
  #heldMessages: Buffer[] = [];
  #draining = false;
  /** How many queries are being answered. */
  #queries = 0;
  /** Until when it is served in this turn; undefined before its first call in it. */
  #sliceEndMs: number | undefined;
  /** Bytes of a message that has not ended yet. */
  #unfinished = 0;
  /** What the device calls itself. */
  #device: string | undefined;

  /**
   * @param stream the connection below the WebSocket
   * @param origin where it comes from: its address and the id of its request
   * @throws {ProblemError} `limit-reached` connections
   */
  constructor(
    context: SessionParts,
    socket: WebSocket,
    stream: Duplex,
    identity: Identity | undefined,
    readonly origin: { address: string; request: string; agent?: string | undefined },
  ) {
    this.#context = context;
    this.#socket = socket;
    this.#stream = stream;
    this.identity = identity;
    this.#watches = new SocketWatches(context.views, this);
    this.#leave = context.connections.enter(this);
    if (!identity) this.#awaitHello();
    else context.sockets.identify(stream as Socket, limitHolder(identity, origin.address));
    socket.on('message', (message: Buffer) => this.#receive(message));
    socket.on('error', (error) => {
      this.#noteBroken(error);
      socket.terminate();
    });
    socket.on('close', () => this.#stop());
    stream.on('drain', () => this.#drained());
    // Counted before the bytes are read as messages, which reset the count.
    stream.prependListener('data', (chunk: Buffer) => this.#noteBytes(chunk.length));
  }

  readonly transport = 'socket';

  get address(): string {
    return this.origin.address;
  }

  describe(): ReturnType<LiveConnection['describe']> {
    const { bytesWritten, bytesRead, writableLength } = this.#stream as Socket;
    return {
      device: this.#device,
      agent: this.origin.agent,
      sentBytes: bytesWritten,
      receivedBytes: bytesRead,
      unreadBytes: writableLength,
      watches: this.#watches.describe(),
    };
  }

  disconnect(): void {
    this.#socket.close(CLOSE.brokenOff, 'closed by an administrator');
    // A client that does not read this is disconnected all the same.
    setTimeout(() => this.#socket.terminate(), BREAK_OFF_MS).unref();
  }

  suspend(): void {
    this.#watches.suspend();
  }

  /** Applies the present identity. Without one, the client may call `hello` again, but sees nothing until then. */
  review(present: Identity | Problem): void {
    if ('status' in present) {
      this.identity = undefined;
      this.#watches.end(present);
      this.#awaitHello();
    } else {
      this.identity = present;
      this.#watches.review(readScopeOf(this.#context, present, this.#holder));
    }
  }

  get full(): boolean {
    return this.#draining;
  }

  send(event: LiveEvent): void {
    this.#writeFrame(event.encodedBy(frameEvent));
  }

  /** Sends a heartbeat with the present seq. */
  sendAlive(frame: Buffer): void {
    if (!this.full) this.#writeFrame(frame);
  }

  /** Ends every watch with a problem and closes. */
  end(problem: Problem): void {
    this.#watches.end(problem);
    this.#socket.close(CLOSE.restarting, 'restarting');
  }

  notify(message: string): void {
    this.#writeFrame(frameText(Buffer.from(message)));
  }

  /**
   * Complete frames bypass the sender of `ws`, which would frame them again for every connection; nothing else is
   * written.
   */
  #writeFrame(frame: Buffer): void {
    if (this.#socket.readyState !== this.#socket.OPEN) return;
    this.#stream.write(frame);
    if (!this.#draining && this.#stream.writableLength > this.#context.maxUnreadBytes) {
      this.#draining = true;
      this.#socket.pause();
    }
  }

  /** When the other side has read on: first the changes it missed, then the answers, then its next calls. */
  #drained(): void {
    if (!this.#draining) return;
    this.#draining = false;
    this.#whenCaughtUp(() => {
      for (const answer of this.#heldAnswers.splice(0)) this.notify(answer);
      this.#handleHeld();
    });
  }

  /**
   * Does something once every watch of this connection shows the present state; at once where they do. When the store cannot
   * be read again and again, it is done all the same.
   */
  #whenCaughtUp(then: () => void, attempts = 5): void {
    const waiting = this.#watches.subscriptions.map(
      (subscription) => subscription.catchUp() ?? subscription.view.settled,
    );
    const pending = waiting.filter((promise) => promise !== undefined);
    if (pending.length === 0 || attempts === 0) then();
    else void Promise.allSettled(pending).then(() => this.#whenCaughtUp(then, attempts - 1));
  }

  /** What comes while others are held back waits behind them. */
  #receive(message: Buffer): void {
    this.#unfinished = 0;
    this.#context.sockets.noteUnfinished(this.#stream as Socket, 0);
    if (!this.#mustWait && this.#heldMessages.length === 0) return this.#handle(message);
    this.#heldMessages.push(message);
    this.#socket.pause();
  }

  /** Whether what comes must wait: for the other side to read, or for calls before it. */
  get #mustWait(): boolean {
    return this.full || this.#recognising || this.#queries >= MAX_QUERIES || this.#isSliceOver;
  }

  /** Whether this connection has been served for long enough in this turn; the rest of its calls wait for the next one. */
  get #isSliceOver(): boolean {
    return this.#sliceEndMs !== undefined && performance.now() > this.#sliceEndMs;
  }

  /** Begins the time in which this connection is served, with its first call in a turn of the event loop. */
  #beginSlice(): void {
    if (this.#sliceEndMs !== undefined) return;
    this.#sliceEndMs = performance.now() + SLICE_MS;
    setImmediate(() => {
      this.#sliceEndMs = undefined;
      // Also where nothing is held any more, the socket may have been paused.
      this.#handleHeld();
    });
  }

  /** Notes bytes that have come. Before the other side has said who it is, it may send only a few. */
  #noteBytes(bytes: number): void {
    this.#unfinished += bytes;
    const mayCome = this.#context.budgets.helloBytes + CHUNK_BYTES;
    if (!this.identity && !this.#recognising && this.#unfinished > mayCome) {
      this.#noteBroken(new Error('Too much was sent before hello.'));
      this.#socket.terminate();
      return;
    }
    if (this.#unfinished > UNFINISHED_NOTED) {
      this.#context.sockets.noteUnfinished(this.#stream as Socket, this.#unfinished);
    }
  }

  #handleHeld(): void {
    while (!this.#mustWait && this.#heldMessages.length > 0) {
      this.#handle(this.#heldMessages.shift()!);
    }
    if (!this.#mustWait) this.#socket.resume();
  }

  #handle(message: Buffer): void {
    this.#beginSlice();
    let id: string | number | null = null;
    try {
      const { sizeBytes } = this.#context.commitLimits;
      if (message.length > sizeBytes + ENVELOPE_BYTES) {
        throw problemError('too-large', `A message has at most ${sizeBytes} bytes here. Split the commit.`);
      }
      const call = readCall(message);
      id = call.id;
      const result = this.#call(call, message.length);
      if (typeof result === 'string') this.answer(id, result);
      else if (result)
        result.then(
          (text) => this.answer(call.id, text),
          (error: unknown) => this.refuse(call.id, error),
        );
    } catch (error) {
      // A message that could not be read is answered under its id all the same.
      this.refuse(id ?? findCallId(message) ?? null, error);
    }
  }

  /** Runs a call. The result is JSON text; undefined when the answer has been sent already. */
  #call({ id, method, params }: RpcCall, sizeBytes: number): string | Promise<string> | undefined {
    if (!Object.hasOwn(LIVE_PARAMS, method)) {
      const known = Object.keys(LIVE_PARAMS).join(', ');
      const problem = createProblem('bad-request', `The call "${method}" does not exist. The calls are: ${known}.`);
      throw new RpcFault(RPC_ERRORS.methodNotFound, problem);
    }
    if (method !== 'hello' || this.identity) this.#checkCaller();
    const checked = LIVE_PARAMS[method as LiveMethod].safeParse(params ?? {});
    if (!checked.success) {
      const { detail, pointer } = describeIssue(checked.error.issues);
      throw new RpcFault(
        RPC_ERRORS.invalidParams,
        createProblem('bad-request', detail, { pointer: `/params${pointer}` }),
      );
    }
    switch (method as LiveMethod) {
      case 'hello':
        return this.#hello(checked.data as LiveParams['hello']);
      case 'watch':
        return this.#watch(id, checked.data as LiveParams['watch']);
      case 'unwatch':
        this.#watches.leave((checked.data as LiveParams['unwatch']).watch);
        return '{}';
      case 'query':
        return this.#query(checked.data as LiveParams['query']);
      case 'get':
        return this.#get(checked.data as LiveParams['get']);
      case 'commit':
        return this.#commit(checked.data as LiveParams['commit'], sizeBytes);
    }
  }

  /** @throws {ProblemError} before authentication, or when a rate limit is exceeded */
  #checkCaller(): void {
    const { identity } = this;
    if (!identity) throw problemError('key-missing', 'Call hello with a key or a token as "token" first.');
    if (this.#throttled && this.#throttled.untilMs > Date.now()) throw this.#throttled.error;
    this.#throttled = undefined;
    this.#context.rates.count(identity, this.address).catch((error: unknown) => {
      if (!(error instanceof ProblemError)) return;
      this.#throttled = { error, untilMs: Date.now() + Number(error.problem.retryAfter ?? 1) * 1000 };
    });
  }

  /** Authenticates the caller. Called again with another token, it changes the identity of the connection. */
  async #hello({ token, device }: LiveParams['hello']): Promise<string> {
    const { identities, store, connections } = this.#context;
    this.#recognising = true;
    this.#socket.pause();
    try {
      await this.#context.rates.checkFailures(this.address);
      const identity = await identities.identify(token);
      connections.updateIdentity(this, identity);
      this.#context.sockets.identify(this.#stream as Socket, limitHolder(identity, this.address));
      clearTimeout(this.#helloTimer);
      this.#device = device;
      this.suspend();
      this.review(identity);
      const openUntilMs = identities.openUntilMs();
      return JSON.stringify({
        store: store.id,
        serverVersion: VERSION,
        seq: store.log.seq,
        time: formatTime(Date.now()),
        maxCommitBytes: this.#context.commitLimits.sizeBytes,
        identity: describeIdentity(identity),
        ...(openUntilMs === undefined ? {} : { openUntil: formatTime(openUntilMs) }),
      });
    } catch (error) {
      await auditFailure(this.#context, error, this.address, this.origin.request);
      throw error;
    } finally {
      // The answer is sent before later messages are handled.
      setImmediate(() => {
        this.#recognising = false;
        this.#handleHeld();
      });
    }
  }

  /** The answer goes out before the watch takes part in any change. */
  #watch(id: string | number, { resume, ...target }: LiveParams['watch']): undefined {
    const identity = this.identity!;
    const most = isGoverned(identity) ? this.#context.accessLimits.watches : Infinity;
    if (this.#watches.size >= most) {
      throw problemError(
        'limit-reached',
        `A connection has at most ${most} watches. End some, or watch more with one query.`,
      );
    }
    this.#watches.begin(id, target, resume, readScopeOf(this.#context, identity, this.#holder));
    return undefined;
  }

  #get({ doc, at }: LiveParams['get']): string {
    const { collection, id } = splitAddress(doc);
    const { store } = this.#context;
    const access = readableAccess(this.#context, this.identity!, collection);
    if (at !== undefined) return JSON.stringify(readDocumentAt(store, access, collection, id, at));
    const stored = findStored(store, collection, id);
    const text = stored && seenDocument(stored, access);
    if (text === undefined)
      throw problemError('no-such-document', `The document ${doc} does not exist.`, { document: doc });
    return text;
  }

  /** Only this many run at the same time; further ones wait. */
  async #query(form: LiveParams['query']): Promise<string> {
    const { bytes } = this.#context;
    bytes.check(this.#holder);
    const lease = bytes.open(this.#holder);
    this.#queries++;
    try {
      return (await readListing(this.#context, this.identity!, form, this.#holder, lease)).text;
    } finally {
      this.#queries--;
      setTimeout(() => lease.release(), HANDED_OVER_MS).unref();
      setImmediate(() => this.#handleHeld());
    }
  }

  /** For whom what this connection holds is counted. */
  get #holder(): string {
    return this.identity ? limitHolder(this.identity, this.address) : this.address;
  }

  /** The answer waits until the watches of this connection show the commit. */
  async #commit(commit: LiveParams['commit'], sizeBytes: number): Promise<string> {
    const onSeq = (seq: number) => this.#tellAccepted(commit.id, seq);
    const { author, rights } = this.identity!;
    const sender = { author, rights, idSpace: idSpaceOf(this.identity!), lane: this, sizeBytes, onSeq };
    const receipt = await this.#context.committer.commit(commit, sender);
    if (!this.full) await new Promise<void>((resolve) => this.#whenCaughtUp(resolve));
    return JSON.stringify(receipt);
  }

  /** Reports to the client which change contains its commit, since the client may show the writes as pending. */
  #tellAccepted(id: string | undefined, seq: number): void {
    if (id === undefined || this.#watches.size === 0 || this.full) return;
    this.notify(JSON.stringify({ jsonrpc: '2.0', method: 'accepted', params: { id, seq } }));
  }

  answer(id: string | number | null, result: string): void {
    this.#sendAnswer(`{"jsonrpc":"2.0","id":${JSON.stringify(id)},"result":${result}}`);
  }

  refuse(id: string | number | null, error: unknown): void {
    const { code, problem } =
      error instanceof RpcFault
        ? error
        : error instanceof ProblemError
          ? { code: error.problem.status, problem: error.problem }
          : this.#describeFault(error);
    const message = problem.title;
    this.#context.recorder.recordProblem(problem.type);
    this.#sendAnswer(JSON.stringify({ jsonrpc: '2.0', id, error: { code, message, data: problem } }));
  }

  #describeFault(error: unknown): { code: number; problem: Problem } {
    this.#context.store.health.note(error);
    const problem = asProblem(error);
    if (!problem) this.#context.onFault(error);
    const answered = problem ?? createProblem('internal', 'The service failed to handle this call.');
    return { code: answered.status, problem: answered };
  }

  #sendAnswer(text: string): void {
    if (this.full) this.#heldAnswers.push(text);
    else this.notify(text);
  }

  /** Keeps a note of a message that was larger than it may be, or was none. */
  #noteBroken({ message }: Error): void {
    const { audit } = this.#context.identities;
    const identity = this.identity ? formatIdentity(this.identity.author) : 'unknown';
    const { address, request } = this.origin;
    audit.add({ event: 'refused', identity, address, request, detail: { to: LIVE_PATH, detail: message } });
  }

  #awaitHello(): void {
    clearTimeout(this.#helloTimer);
    this.#helloTimer = setTimeout(() => this.#closeWithoutHello(), HELLO_WITHIN_MS).unref();
  }

  #closeWithoutHello(): void {
    this.#socket.close(CLOSE.noHello, 'call hello first');
  }

  #stop(): void {
    clearTimeout(this.#helloTimer);
    this.#leave();
    this.#watches.stop();
  }
}
