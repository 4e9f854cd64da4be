import type { ServerResponse } from 'node:http';
import { createProblem, type WatchTarget } from '@uproar/protocol';
import type { FastifyReply, FastifyRequest } from 'fastify';
import type { LiveEvent } from '../live/live-event.js';
import type { Sink } from '../live/live-view.js';
import type { Context } from './context.js';

/** How long a browser waits before it connects again, in milliseconds. */
const RETRY_MS = 2000;

/** Answers a request with a watch as an event stream (HTML Standard, section 9.2). */
export function answerWithWatch(
  context: Context,
  request: FastifyRequest,
  reply: FastifyReply,
  target: WatchTarget,
): void {
  const resume = request.headers['last-event-id'];
  const response = reply.raw;
  const sink = new StreamSink(response, context.maxUnreadBytes);
  const begin = (first: LiveEvent) => {
    response.writeHead(200, {
      'content-type': 'text/event-stream; charset=utf-8',
      'cache-control': 'no-store',
      'x-accel-buffering': 'no',
      'x-content-type-options': 'nosniff',
    });
    response.write(`retry: ${RETRY_MS}\n\n`);
    sink.send(first);
  };
  const subscription = context.views.watch(
    target,
    sink,
    typeof resume === 'string' && resume !== '' ? resume : undefined,
    begin,
    () => response.destroy(),
  );
  reply.hijack();

  // An id without data moves the resume point of the reader on, and no event is raised.
  const heartbeat = setInterval(() => {
    if (subscription.behind || subscription.view.settled || sink.full) return;
    response.write(`: still here\nid: ${subscription.view.resumePoint(context.store.log.seq)}\n\n`);
  }, context.heartbeatMs);
  const end = () => {
    const problem = createProblem('stopping', 'The service is stopping. Connect again in a moment.');
    response.end(`event: end\ndata: ${JSON.stringify(problem)}\n\n`);
  };
  context.closing.add(end);
  response.on('drain', () => void subscription.catchUp());
  response.on('error', () => response.destroy());
  response.on('close', () => {
    clearInterval(heartbeat);
    context.closing.delete(end);
    subscription.stop();
  });
}

/** Writes events to a response, and says when its reader is too slow. */
class StreamSink implements Sink {
  constructor(
    readonly response: ServerResponse,
    readonly maxUnreadBytes: number,
  ) {}

  get full(): boolean {
    return this.response.writableLength > this.maxUnreadBytes;
  }

  send(event: LiveEvent): void {
    this.response.write(event.sse);
  }
}
