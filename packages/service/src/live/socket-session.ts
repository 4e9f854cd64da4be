import { formatTime, splitAddress, writeCursor } from '@uproar/core';
import {
  createProblem,
  LIVE_PARAMS,
  ProblemError,
  RPC_ERRORS,
  RpcCall,
  type LiveMethod,
  type LiveParams,
  type Problem,
  problemError,
} from '@uproar/protocol';
import type { Duplex } from 'node:stream';
import type { WebSocket } from 'ws';
import { identifyKey } from '../http/authenticate.js';
import { parseBody } from '../http/body-parser.js';
import type { Context } from '../http/context.js';
import { describeIssue } from '../http/errors.js';
import { prepareWireQuery } from '../http/query-form.js';
import { readDocumentAt } from '../http/read-document.js';
import { writeListing } from '../http/send-query.js';
import type { Identity } from '../identity/keys.js';
import { stringifyStored } from '../store/index.js';
import { VERSION } from '../version.js';
import { frameText } from './frame.js';
import type { LiveEvent } from './live-event.js';
import type { Sink, Subscription } from './live-view.js';

/** A connection that has not said who it is by then is closed. */
const HELLO_WITHIN_MS = 10_000;

/** Close codes (RFC 6455, section 7.4.1; 4000 and above are ours to define). */
const CLOSE = { restarting: 1012, noHello: 4401 } as const;

/**
 * One WebSocket connection: its calls (JSON-RPC 2.0), its watches and what it is sent.
 *
 * A connection that reads too slowly is not read from either until it has caught up, so that what waits for it stays
 * bounded; answers to its commits wait behind the changes those commits made.
 */
export class SocketSession implements Sink {
  readonly #context: Context;
  readonly #socket: WebSocket;
  readonly #stream: Duplex;
  readonly #watches = new Map<string, { subscription: Subscription; count: number }>();
  readonly #helloTimer: NodeJS.Timeout;
  #identity: Identity | undefined;
  #heldAnswers: string[] = [];
  #heldMessages: Buffer[] = [];
  #draining = false;

  /** @param stream the connection below the WebSocket */
  constructor(context: Context, socket: WebSocket, stream: Duplex, identity: Identity | undefined) {
    this.#context = context;
    this.#socket = socket;
    this.#stream = stream;
    this.#identity = identity;
    this.#helloTimer = setTimeout(() => this.#closeWithoutHello(), HELLO_WITHIN_MS).unref();
    if (identity) clearTimeout(this.#helloTimer);
    socket.on('message', (message: Buffer) => this.#receive(message));
    socket.on('error', () => socket.terminate());
    socket.on('close', () => this.#stop());
    stream.on('drain', () => this.#drained());
  }

  get full(): boolean {
    return this.#draining;
  }

  send(event: LiveEvent): void {
    this.#writeFrame(event.frame);
  }

  /** Tells the other side that the service still lives, and at which seq. */
  sendAlive(frame: Buffer): void {
    if (!this.full) this.#writeFrame(frame);
  }

  /** Ends every watch with a problem and closes. */
  end(problem: Problem): void {
    for (const watch of this.#watches.keys()) {
      this.#write(JSON.stringify({ jsonrpc: '2.0', method: 'end', params: { watch, problem } }));
    }
    this.#socket.close(CLOSE.restarting, 'restarting');
  }

  #write(message: string): void {
    this.#writeFrame(frameText(Buffer.from(message)));
  }

  /** Whole frames go past the sender of `ws`, which would frame them anew for every connection; nothing else is written. */
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
      for (const answer of this.#heldAnswers.splice(0)) this.#write(answer);
      while (!this.full && this.#heldMessages.length > 0) this.#handle(this.#heldMessages.shift()!);
      if (!this.full) this.#socket.resume();
    });
  }

  /**
   * Does something once every watch of this connection shows the present state; at once where they do. When the store cannot
   * be read again and again, it is done all the same.
   */
  #whenCaughtUp(then: () => void, attempts = 5): void {
    const waiting = [...this.#watches.values()].map(
      ({ subscription }) => subscription.catchUp() ?? subscription.view.settled,
    );
    const pending = waiting.filter((promise) => promise !== undefined);
    if (pending.length === 0 || attempts === 0) then();
    else void Promise.allSettled(pending).then(() => this.#whenCaughtUp(then, attempts - 1));
  }

  /** What comes while others are held back waits behind them. */
  #receive(message: Buffer): void {
    if (this.full || this.#heldMessages.length > 0) this.#heldMessages.push(message);
    else this.#handle(message);
  }

  #handle(message: Buffer): void {
    let id: string | number | null = null;
    try {
      const call = this.#readCall(message);
      id = call.id;
      const result = this.#call(call, message.length);
      if (typeof result === 'string') this.#answer(id, result);
      else if (result)
        result.then(
          (text) => this.#answer(call.id, text),
          (error: unknown) => this.#refuse(call.id, error),
        );
    } catch (error) {
      this.#refuse(id, error);
    }
  }

  #readCall(message: Buffer): RpcCall {
    let value: unknown;
    try {
      value = parseBody(message);
    } catch (error) {
      throw new RpcFault(RPC_ERRORS.parse, (error as ProblemError).problem);
    }
    const call = RpcCall.safeParse(value);
    if (!call.success) {
      const { detail, pointer } = describeIssue(call.error.issues);
      const problem = createProblem('bad-request', `This is no JSON-RPC 2.0 call: ${detail}`, { pointer });
      throw new RpcFault(RPC_ERRORS.invalidRequest, problem);
    }
    return call.data;
  }

  /** Runs a call. The result is JSON text; undefined when the answer has been sent already. */
  #call({ id, method, params }: RpcCall, sizeBytes: number): string | Promise<string> | undefined {
    if (!Object.hasOwn(LIVE_PARAMS, method)) {
      const known = Object.keys(LIVE_PARAMS).join(', ');
      const problem = createProblem('bad-request', `There is no call "${method}". There are: ${known}.`);
      throw new RpcFault(RPC_ERRORS.methodNotFound, problem);
    }
    if (method !== 'hello' && !this.#identity) {
      throw problemError('key-missing', 'Call hello with the key of the store as "token" first.');
    }
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
        return this.#unwatch(checked.data as LiveParams['unwatch']);
      case 'query':
        return this.#query(checked.data as LiveParams['query']);
      case 'get':
        return this.#get(checked.data as LiveParams['get']);
      case 'commit':
        return this.#commit(checked.data as LiveParams['commit'], sizeBytes);
    }
  }

  #hello({ token }: LiveParams['hello']): string {
    const { keys, store } = this.#context;
    this.#identity = identifyKey(keys, token);
    clearTimeout(this.#helloTimer);
    return JSON.stringify({
      store: store.id,
      serverVersion: VERSION,
      seq: store.log.seq,
      time: formatTime(Date.now()),
      identity: this.#identity,
    });
  }

  /** The answer goes out before the watch takes part in any change. */
  #watch(id: string | number, { resume, ...target }: LiveParams['watch']): undefined {
    const subscription = this.#context.views.watch(
      target,
      this,
      resume,
      (first) => this.#answer(id, first.answer),
      (error) => this.#refuse(id, error),
    );
    const { name } = subscription.view;
    const known = this.#watches.get(name);
    if (known) known.subscription.stop();
    this.#watches.set(name, { subscription, count: (known?.count ?? 0) + 1 });
    return undefined;
  }

  #unwatch({ watch }: LiveParams['unwatch']): string {
    const known = this.#watches.get(watch);
    if (!known) throw problemError('no-such-watch', `This connection has no watch "${watch}".`);
    if (--known.count === 0) {
      known.subscription.stop();
      this.#watches.delete(watch);
    }
    return '{}';
  }

  #get({ doc, at }: LiveParams['get']): string {
    const { collection, id } = splitAddress(doc);
    const { store } = this.#context;
    if (at !== undefined) return JSON.stringify(readDocumentAt(store, collection, id, at));
    const info = store.collections.get(collection);
    const stored = info && store.documents.get(info.number, id);
    if (!stored) throw problemError('no-such-document', `There is no document ${doc}.`, { document: doc });
    return stringifyStored(stored);
  }

  async #query(form: LiveParams['query']): Promise<string> {
    const query = prepareWireQuery(form, false);
    const { store } = this.#context;
    const reading = await store.reader.read(query, query.limit!);
    return writeListing(
      store,
      query,
      reading,
      reading.more ? writeCursor(reading.found.at(-1)!.document, query.order) : undefined,
    );
  }

  /** The answer waits until one's own watches show what the commit did. */
  async #commit(commit: LiveParams['commit'], sizeBytes: number): Promise<string> {
    const onSeq = (seq: number) => this.#tellAccepted(commit.id, seq);
    const sender = { author: this.#identity!, lane: this, sizeBytes, onSeq };
    const receipt = await this.#context.committer.commit(commit, sender);
    if (!this.full) await new Promise<void>((resolve) => this.#whenCaughtUp(resolve));
    return JSON.stringify(receipt);
  }

  /** Which of the changes to come hold a commit of one's own; whoever shows it already must know. */
  #tellAccepted(id: string | undefined, seq: number): void {
    if (id === undefined || this.#watches.size === 0 || this.full) return;
    this.#write(JSON.stringify({ jsonrpc: '2.0', method: 'accepted', params: { id, seq } }));
  }

  #answer(id: string | number | null, result: string): void {
    this.#sendAnswer(`{"jsonrpc":"2.0","id":${JSON.stringify(id)},"result":${result}}`);
  }

  #refuse(id: string | number | null, error: unknown): void {
    const { code, problem } =
      error instanceof RpcFault
        ? error
        : error instanceof ProblemError
          ? { code: error.problem.status, problem: error.problem }
          : { code: 500, problem: createProblem('internal', 'The service failed to handle this call.') };
    const message = problem.title;
    this.#sendAnswer(JSON.stringify({ jsonrpc: '2.0', id, error: { code, message, data: problem } }));
  }

  #sendAnswer(text: string): void {
    if (this.full) this.#heldAnswers.push(text);
    else this.#write(text);
  }

  #closeWithoutHello(): void {
    this.#socket.close(CLOSE.noHello, 'call hello first');
  }

  #stop(): void {
    clearTimeout(this.#helloTimer);
    for (const { subscription } of this.#watches.values()) subscription.stop();
    this.#watches.clear();
  }
}

/** An error that JSON-RPC 2.0 has a code of its own for. */
class RpcFault extends Error {
  constructor(
    readonly code: number,
    readonly problem: Problem,
  ) {
    super(problem.detail);
  }
}
