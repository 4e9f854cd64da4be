import type { ServerResponse } from 'node:http';
import { createProblem, ProblemError, type ConnectionWatch, type Problem, type WatchTarget } from '@uproar/protocol';
import type { Identity } from '../identity/identity.js';
import type { FastifyReply, FastifyRequest } from 'fastify';
import type { LiveEvent } from '../live/live-event.js';
import type { Sink, Subscription } from '../live/subscription.js';
import { describeWatch } from '../live/describe-watch.js';
import { readScopeOf } from '../requests/identity-scope.js';
import type { Context } from '../requests/context.js';
import { asProblem } from '../requests/problems.js';
import { PacedWriter } from '../requests/paced-writer.js';

/** How long a browser waits before it connects again, in milliseconds. */
const RETRY_MS = 2000;

/** The parts of the service that a watch over an event stream uses. */
export type StreamContext = Pick<
  Context,
  | 'store'
  | 'views'
  | 'identities'
  | 'connections'
  | 'accessLimits'
  | 'maxUnreadBytes'
  | 'budgets'
  | 'heartbeatMs'
  | 'closing'
  | 'sockets'
>;

/** Answers a request with a watch as an event stream (HTML Standard, section 9.2). */
export function answerWithWatch(
  context: StreamContext,
  request: FastifyRequest,
  reply: FastifyReply,
  target: WatchTarget,
): void {
  const resume = request.headers['last-event-id'];
  const response = reply.raw;
  let subscription: Subscription | undefined;
  const sink = new StreamSink(response, context.maxUnreadBytes, () => void subscription?.catchUp());
  context.sockets.count(request.raw.socket, () => sink.heldBytes);
  const begin = (first: LiveEvent) => {
    response.writeHead(200, { ...headersOf(reply), ...EVENT_STREAM_HEADERS });
    response.write(`retry: ${RETRY_MS}\n\n`);
    sink.send(first);
  };
  const stay = registerStream(context, request, response, {
    watches: () => (subscription ? [describeWatch(target, subscription)] : []),
    suspend: () => subscription?.suspend(),
    withinEvent: () => sink.withinEvent,
    resume: (identity) => {
      if (!subscription) return;
      const send = subscription.begun ? (first: LiveEvent) => sink.send(first) : begin;
      subscription = context.views.review(
        subscription,
        target,
        readScopeOf(context, identity, request.holder),
        send,
        stay.fail,
      );
    },
  });
  try {
    subscription = context.views.watch(
      target,
      readScopeOf(context, request.identity, request.holder),
      sink,
      typeof resume === 'string' && resume !== '' ? resume : undefined,
      begin,
      stay.fail,
    );
  } catch (error) {
    stay.leave();
    throw error;
  }
  reply.hijack();

  // An id without data moves the resume point of the reader on, and no event is raised.
  const heartbeat = setInterval(() => {
    if (!subscription || subscription.behind || subscription.view.settled || sink.full) return;
    response.write(`: still here\nid: ${subscription.view.resumePoint(context.store.log.seq)}\n\n`);
  }, context.heartbeatMs);
  response.on('error', () => response.destroy());
  response.on('close', () => {
    clearInterval(heartbeat);
    stay.leave();
    subscription?.stop();
  });
}

/**
 * Registers a response as a live connection. It ends when the service stops or its identity is no longer valid, and is
 * called when its permissions change.
 *
 * @throws {ProblemError} `limit-reached` for too many connections
 */
export function registerStream(
  context: Pick<Context, 'connections' | 'closing'>,
  request: FastifyRequest,
  response: ServerResponse,
  watcher: {
    watches: () => ConnectionWatch[];
    suspend: () => void;
    resume: (identity: Identity) => void;
    /** Whether an event has been written in part. */
    withinEvent?: () => boolean;
  },
): { leave: () => void; fail: (error: unknown) => void } {
  const endWith = (problem: Problem) => {
    if (response.writableEnded) return;
    if (!response.headersSent) {
      response.writeHead(problem.status, { 'content-type': 'application/problem+json' });
      response.end(JSON.stringify(problem));
    } else if (watcher.withinEvent?.()) response.destroy();
    else response.end(`event: end\ndata: ${JSON.stringify(problem)}\n\n`);
  };
  const fail = (error: unknown) =>
    endWith(
      error instanceof ProblemError
        ? error.problem
        : (asProblem(error) ?? createProblem('internal', 'The service failed to continue this watch.')),
    );
  // What is sent is counted event by event.
  request.streamed = true;
  const { socket } = request.raw;
  const sentBefore = socket.bytesWritten;
  const connection = {
    identity: request.identity,
    address: request.ip,
    transport: 'stream' as const,
    end: endWith,
    describe: () => ({
      agent: request.headers['user-agent']?.slice(0, 300),
      sentBytes: socket.bytesWritten - sentBefore,
      receivedBytes: socket.bytesRead,
      unreadBytes: response.writableLength,
      watches: watcher.watches(),
    }),
    disconnect: () => response.destroy(),
    suspend: watcher.suspend,
    review: (present: Identity | Problem) => {
      if ('status' in present) return endWith(present);
      connection.identity = present;
      try {
        watcher.resume(present);
      } catch (error) {
        fail(error);
      }
    },
  };
  const leave = context.connections.enter(connection);
  const end = () => endWith(createProblem('stopping', 'The service is stopping. Connect again in a moment.'));
  context.closing.add(end);
  return {
    fail,
    leave: () => {
      leave();
      context.closing.delete(end);
    },
  };
}

/** The headers that were set on an answer before it was taken over. */
export function headersOf(reply: FastifyReply): Record<string, string> {
  return Object.fromEntries(Object.entries(reply.getHeaders()).map(([name, value]) => [name, String(value)]));
}

/** The headers of an event stream. */
export const EVENT_STREAM_HEADERS = {
  'content-type': 'text/event-stream; charset=utf-8',
  'cache-control': 'no-store',
  'x-accel-buffering': 'no',
  'x-content-type-options': 'nosniff',
} as const;

/** Writes events to a response, and says when its reader is too slow. */
class StreamSink implements Sink {
  readonly #response: ServerResponse;
  readonly #writer: PacedWriter;
  readonly #maxUnreadBytes: number;

  /** @param onDrained called when everything has been read */
  constructor(response: ServerResponse, maxUnreadBytes: number, onDrained: () => void) {
    this.#response = response;
    this.#writer = new PacedWriter(response, onDrained);
    this.#maxUnreadBytes = maxUnreadBytes;
  }

  get full(): boolean {
    return this.withinEvent || this.#response.writableLength > this.#maxUnreadBytes;
  }

  /** Whether an event has been written in part. */
  get withinEvent(): boolean {
    return this.#writer.busy;
  }

  /** What waits to be handed over to the connection, in bytes. */
  get heldBytes(): number {
    return this.#writer.heldBytes;
  }

  send(event: LiveEvent): void {
    for (const part of event.encodedBy(encodeEvent)) this.#writer.write(part);
  }
}

/** An event as a block of an event stream (HTML Standard, section 9.2). */
function encodeEvent({ name, resume, start, state }: LiveEvent): Buffer[] {
  const head = `event: ${name}\nid: ${resume}\ndata: {${start}`;
  return state?.isWorthSharing
    ? [encodeText(head), state.encodedBy(encodeText), encodeText('}\n\n')]
    : [encodeText(`${head}${state?.text ?? ''}}\n\n`)];
}

function encodeText(text: string): Buffer {
  return Buffer.from(text);
}
