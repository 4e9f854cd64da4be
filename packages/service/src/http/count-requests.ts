import type { Socket } from 'node:net';
import type { FastifyInstance, FastifyRequest } from 'fastify';
import { formatIdentity } from '../identity/identity.js';
import type { Context } from '../requests/context.js';
import { collectionOf } from '../usage/collection-of.js';
import { FILES } from '../store/index.js';
import type { OnAnswer } from './answers.js';

declare module 'fastify' {
  interface FastifyRequest {
    /** Whether the answer is an event stream, whose events are counted one by one. */
    streamed: boolean;
  }
}

/** Counts requests and the bytes of their answers for the identity that sent them. */
export function countRequests(app: FastifyInstance, { usage }: Pick<Context, 'usage'>, onAnswer: OnAnswer): void {
  /** The bytes that each connection had been sent with the answers so far. */
  const sent = new WeakMap<Socket, number>();
  app.decorateRequest('streamed', false);
  onAnswer((request) => {
    const { socket } = request.raw;
    const { bytesWritten } = socket;
    const sentBytes = request.streamed ? 0 : bytesWritten - (sent.get(socket) ?? 0);
    sent.set(socket, bytesWritten);
    const identity = whoAsked(request);
    if (identity !== undefined) usage.counterFor(identity, askedCollection(request)).request(sentBytes);
  });
}

function whoAsked({ identity, routeOptions }: FastifyRequest): string | undefined {
  // Before it is authenticated, a request has no identity.
  if (identity as unknown) return formatIdentity(identity.author);
  return routeOptions.config.signed ? 'link' : undefined;
}

/** The collection of a request, as far as it names one. */
function askedCollection({ params, query, body, routeOptions }: FastifyRequest): string {
  const { collection } = params as { collection?: string };
  if (collection !== undefined) return collection;
  const url = routeOptions.url ?? '';
  if (url.startsWith('/v1/files')) return FILES;
  if (url === '/v1/commits') return collectionOf((body as { writes?: unknown[] } | undefined)?.writes);
  const named =
    url === '/v1/journal'
      ? (query as { collection?: unknown }).collection
      : (body as { from?: unknown } | undefined)?.from;
  return typeof named === 'string' ? named : '';
}
