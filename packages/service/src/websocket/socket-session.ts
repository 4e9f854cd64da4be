import { formatTime } from '@uproar/core';
import {
  type RpcCall,
  createProblem,
  ProblemError,
  type LiveParams,
  type Problem,
  problemError,
} from '@uproar/protocol';
import type { Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import type { WebSocket } from 'ws';
import { limitHolder, readScopeOf } from '../requests/identity-scope.js';
import { auditFailure } from '../requests/credentials.js';
import type { Context } from '../requests/context.js';
import { asProblem } from '../requests/problems.js';
import { type LiveConnection } from '../connections/connection-registry.js';
import { describeIdentity, formatIdentity, idSpaceOf, isGoverned, type Identity } from '../identity/identity.js';
import { checkMethod, checkParams, findCallId, readCall, RpcFault } from './rpc-calls.js';
import { SocketWatches, type WatchOutput } from './socket-watches.js';
import { SocketReads } from './socket-reads.js';
import { VERSION } from '../version.js';
import { frameAlive, staleness } from './alive.js';
import { frameAnswer, frameEvent, frameRenamed } from './encode-event.js';
import { frameText } from './frame.js';
import { IncomingMessages } from './incoming-messages.js';
import { OutgoingFrames } from './outgoing-frames.js';
import type { LiveEvent } from '../live/live-event.js';
import { ENVELOPE_BYTES } from '../requests/parse-body.js';
import { collectionOf } from '../usage/collection-of.js';
import type { UsageCounter } from '../usage/usage-meter.js';

/** The address of the WebSocket. */
export const LIVE_PATH = '/v1/live';

/** A connection without a successful `hello` within this time is closed, in milliseconds. */
const HELLO_WITHIN_MS = 10_000;

/** The bytes that may arrive together with the end of a message. */
const CHUNK_BYTES = 64 * 1024;

/** An incomplete message counts as memory from this size, in bytes. */
const UNFINISHED_COUNTED_BYTES = 64 * 1024;

/** How long a connection may take to close, in milliseconds. */
const CLOSE_WITHIN_MS = 2000;

/** Close codes (RFC 6455, section 7.4.1; 4000 and above are ours to define). */
const CLOSE = { restarting: 1012, disconnected: 4000, noHello: 4401 } as const;

/** The parts of the service that a connection uses. */
export type SessionParts = Pick<
  Context,
  | 'accessLimits'
  | 'budgets'
  | 'bytes'
  | 'cluster'
  | 'commitLimits'
  | 'committer'
  | 'connections'
  | 'identities'
  | 'maxUnreadBytes'
  | 'onFault'
  | 'presence'
  | 'rates'
  | 'recorder'
  | 'sockets'
  | 'store'
  | 'usage'
  | 'views'
>;

/**
 * One WebSocket connection: its calls (JSON-RPC 2.0), its watches and its output.
 *
 * The answer to a commit follows the changes of that commit.
 */
export class SocketSession implements WatchOutput, LiveConnection {
  readonly #context: SessionParts;
  readonly #socket: WebSocket;
  readonly #stream: Duplex;
  readonly #watches: SocketWatches;
  readonly #messages: IncomingMessages;
  readonly #frames: OutgoingFrames;
  readonly #reads: SocketReads;
  readonly #leave: () => void;
  #helloTimer: NodeJS.Timeout | undefined;
  /** True while the caller is being authenticated; further calls wait. */
  #authenticating = false;
  identity: Identity | undefined;
  #throttled: { error: ProblemError; untilMs: number } | undefined;
  /** The received bytes of an incomplete message. */
  #unfinishedBytes = 0;
  /** The name that the device has given. */
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
    this.#frames = new OutgoingFrames(
      socket,
      stream,
      context.maxUnreadBytes,
      (bytes) => frameAlive(context.store.log.seq, context.cluster, bytes),
      () => this.#drained(),
    );
    this.#reads = new SocketReads(context, () => setImmediate(() => this.#messages.resume()));
    this.#messages = new IncomingMessages(
      socket,
      (message) => this.#handle(message),
      () => this.full || this.#authenticating || this.#reads.full,
    );
    this.#leave = context.connections.enter(this);
    context.sockets.count(stream as Socket, () => this.#frames.heldBytes);
    if (!identity) this.#awaitHello();
    else context.sockets.identify(stream as Socket, limitHolder(identity, origin.address));
    socket.on('message', (message: Buffer) => this.#receive(message));
    socket.on('error', (error) => {
      this.#auditBroken(error);
      socket.terminate();
    });
    socket.on('close', () => this.#stop());
    // Counted before the bytes are parsed as messages, which resets the count.
    stream.prependListener('data', (chunk: Buffer) => this.#countBytes(chunk.length));
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
      unreadBytes: writableLength + Math.round(this.#frames.heldBytes),
      watches: this.#watches.describe(),
    };
  }

  disconnect(): void {
    this.#socket.close(CLOSE.disconnected, 'closed by an administrator');
    // A client that does not read this is disconnected all the same.
    setTimeout(() => this.#socket.terminate(), CLOSE_WITHIN_MS).unref();
  }

  suspend(): void {
    this.#watches.suspend();
  }

  /** Applies the present identity. Without one, the client may call `hello` again, but sees nothing until then. */
  review(present: Identity | Problem): void {
    if ('status' in present) {
      this.identity = undefined;
      this.#context.presence.release(this);
      this.#watches.end(present);
      this.#awaitHello();
    } else {
      this.identity = present;
      this.#watches.review(readScopeOf(this.#context, present, this.#holder));
    }
  }

  get full(): boolean {
    return this.#frames.full;
  }

  send(event: LiveEvent): void {
    this.#frames.send(event.encodedBy(frameEvent));
  }

  /** Sends a heartbeat with the present seq. */
  sendAlive(frame: Buffer): void {
    if (!this.full) this.#frames.write(frame);
  }

  /** Ends every watch with a problem and closes. */
  end(problem: Problem): void {
    this.#watches.end(problem);
    this.#socket.close(CLOSE.restarting, 'restarting');
  }

  notify(message: string): void {
    this.#frames.write(frameText(message));
  }

  /** After a full connection was read: sends the changes that it missed, then its answers, then handles its next calls. */
  #drained(): void {
    this.#whenCaughtUp(() => {
      this.#frames.sendHeldAnswers();
      this.#messages.resume();
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

  #receive(message: Buffer): void {
    this.#unfinishedBytes = 0;
    this.#context.sockets.noteUnfinished(this.#stream as Socket, 0);
    this.#messages.receive(message);
  }

  /** Counts received bytes. Before `hello`, a connection may send only a few. */
  #countBytes(bytes: number): void {
    this.#unfinishedBytes += bytes;
    const allowedBytes = this.#context.budgets.helloBytes + CHUNK_BYTES;
    if (!this.identity && !this.#authenticating && this.#unfinishedBytes > allowedBytes) {
      this.#auditBroken(new Error('Too much was sent before hello.'));
      this.#socket.terminate();
      return;
    }
    if (this.#unfinishedBytes > UNFINISHED_COUNTED_BYTES) {
      this.#context.sockets.noteUnfinished(this.#stream as Socket, this.#unfinishedBytes);
    }
  }

  #handle(message: Buffer): void {
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
    checkMethod(method);
    if (method !== 'hello' || this.identity) this.#checkCaller();
    const checked = checkParams(method, params);
    switch (method) {
      case 'hello':
        return this.#hello(checked as LiveParams['hello']);
      case 'watch':
        return this.#watch(id, checked as LiveParams['watch']);
      case 'unwatch':
        this.#watches.leave((checked as LiveParams['unwatch']).watch);
        return '{}';
      case 'query':
        return this.#reads.query(checked as LiveParams['query'], this.identity!, this.#holder);
      case 'get':
        return this.#reads.get(checked as LiveParams['get'], this.identity!);
      case 'commit':
        return this.#commit(checked as LiveParams['commit'], sizeBytes);
      case 'release':
        this.#context.presence.letGo(this, (checked as LiveParams['release']).doc);
        return '{}';
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
  async #hello({ token, device, seen }: LiveParams['hello']): Promise<string> {
    const { cluster, identities, store, connections } = this.#context;
    this.#authenticating = true;
    this.#socket.pause();
    try {
      await this.#context.rates.checkFailures(this.address);
      if (seen !== undefined) await cluster?.waitFor(seen);
      const identity = await identities.identify(token);
      if (this.identity && formatIdentity(this.identity.author) !== formatIdentity(identity.author)) {
        this.#context.presence.release(this);
      }
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
        ...(cluster ? { node: cluster.node, ...staleness(cluster) } : {}),
        ...(openUntilMs === undefined ? {} : { openUntil: formatTime(openUntilMs) }),
      });
    } catch (error) {
      await auditFailure(this.#context, error, this.address, this.origin.request);
      throw error;
    } finally {
      // The answer is sent before later messages are handled.
      setImmediate(() => {
        this.#authenticating = false;
        this.#messages.resume();
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
    this.#usageOf('').request(0);
    this.#watches.begin(id, target, resume, readScopeOf(this.#context, identity, this.#holder));
    return undefined;
  }

  /** The identity or address that the memory of this connection is counted for. */
  get #holder(): string {
    return this.identity ? limitHolder(this.identity, this.address) : this.address;
  }

  /** The answer waits until the watches of this connection show the commit. */
  async #commit(commit: LiveParams['commit'], sizeBytes: number): Promise<string> {
    const onSeq = (seq: number) => this.#sendAccepted(commit.id, seq);
    const { author, rights } = this.identity!;
    const usage = this.#usageOf(collectionOf(commit.writes));
    const { committer, presence } = this.#context;
    const held = commit.writes.flatMap((write) => ('put' in write && write.whileConnected ? [write.put] : []));
    const undoHold = held.length > 0 ? presence.hold(this, held) : undefined;
    const holdFor = presence.node;
    const sender = { author, rights, idSpace: idSpaceOf(this.identity!), lane: this, sizeBytes, onSeq, holdFor };
    const receipt = await committer.commit(commit, sender).catch((error: unknown) => {
      if (error instanceof ProblemError) undoHold?.();
      throw error;
    });
    if (!this.full) await new Promise<void>((resolve) => this.#whenCaughtUp(resolve));
    const text = JSON.stringify(receipt);
    usage.request(Buffer.byteLength(text));
    return text;
  }

  #usageOf(collection: string): UsageCounter {
    return this.#context.usage.counterFor(formatIdentity(this.identity!.author), collection);
  }

  /** Reports to the client which change contains its commit, since the client may show the writes as pending. */
  #sendAccepted(id: string | undefined, seq: number): void {
    if (id === undefined || this.#watches.size === 0 || this.full) return;
    this.notify(JSON.stringify({ jsonrpc: '2.0', method: 'accepted', params: { id, seq } }));
  }

  answer(id: string | number | null, result: string): void {
    this.#frames.answer([frameText(`{"jsonrpc":"2.0","id":${JSON.stringify(id)},"result":${result}}`)]);
  }

  answerWith(id: string | number, first: LiveEvent): void {
    this.#frames.answer(frameAnswer(id, first));
  }

  sendRenamed(event: LiveEvent, was: string): void {
    this.#frames.send(frameRenamed(event, was));
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
    this.#frames.answer([frameText(JSON.stringify({ jsonrpc: '2.0', id, error: { code, message, data: problem } }))]);
  }

  #describeFault(error: unknown): { code: number; problem: Problem } {
    this.#context.store.health.note(error);
    const problem = asProblem(error);
    if (!problem) this.#context.onFault(error);
    const answered = problem ?? createProblem('internal', 'The service failed to handle this call.');
    return { code: answered.status, problem: answered };
  }

  /** Records a message that was too large or malformed in the audit log. */
  #auditBroken({ message }: Error): void {
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
    this.#context.presence.release(this);
    this.#leave();
    this.#watches.stop();
  }
}
