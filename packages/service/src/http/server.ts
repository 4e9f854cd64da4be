import { randomUUID } from 'node:crypto';
import type { IncomingMessage, ServerOptions as NodeServerOptions } from 'node:http';
import type { Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import cors from '@fastify/cors';
import helmet from '@fastify/helmet';
import proxyAddress from '@fastify/proxy-addr';
import { problemError } from '@uproar/protocol';
import Fastify, { type FastifyInstance, type FastifyServerOptions } from 'fastify';
import type { ServiceOptions } from '../settings.js';
import type { Context } from '../requests/context.js';
import { bytesOfLarge, inPieces } from '../requests/paced-writer.js';
import type { OnAnswer } from './answers.js';

/** A client that has not sent its headers, or all of a request, by then is cut off. */
const HEADERS_MS = 20_000;
const REQUEST_MS = 120_000;

/** How the server takes requests: in the clear or over TLS, from whom, and how slowly they may come. */
export function serverOptions({ tls, trustedProxies, timeouts }: ServiceOptions): FastifyServerOptions {
  const { headersMs = HEADERS_MS } = timeouts ?? {};
  const node: NodeServerOptions = {
    headersTimeout: headersMs,
    // What takes too long is cut off by a hook, since uploads may take longer than other requests.
    requestTimeout: 0,
    connectionsCheckingInterval: Math.min(5000, headersMs),
    maxHeaderSize: 32 * 1024,
  };
  return {
    trustProxy: trustedProxies ? [...trustedProxies] : false,
    genReqId: ({ headers }) => {
      const given = headers['x-request-id'];
      return typeof given === 'string' && /^[\w.-]{8,64}$/.test(given) ? given : randomUUID();
    },
    ...(tls ? { https: { ...node, ...tls } } : { http: node }),
  };
}

/** Finds the client address of a request; trusts X-Forwarded-For from the configured proxies only. */
export function addressFinder({ trustedProxies }: ServiceOptions): (request: IncomingMessage) => string {
  if (!trustedProxies) return (request) => request.socket.remoteAddress ?? '';
  const trust = proxyAddress.compile([...trustedProxies]);
  return (request) => proxyAddress(request, trust) ?? '';
}

/** The fields of answers that pages of other origins may read. */
const EXPOSED = [
  'etag',
  'link',
  'location',
  'ratelimit',
  'ratelimit-policy',
  'retry-after',
  'x-request-id',
  'accept-patch',
  'accept-ranges',
  'content-range',
  'content-disposition',
  'schema-violations',
  'uproar-stale-since',
];

/**
 * Installs what protects browsers and refuses invalid requests: security headers, origin checks, time-outs and content
 * encodings.
 */
export async function limitRequests(
  app: FastifyInstance,
  { originPolicy, identities }: Pick<Context, 'identities' | 'originPolicy'>,
  { tls, timeouts }: ServiceOptions,
  onAnswer: OnAnswer,
): Promise<void> {
  const { requestMs = REQUEST_MS } = timeouts ?? {};
  const noteRefused = ({ remoteAddress: address }: Socket, problem: string) =>
    identities.audit.add({ event: 'refused', identity: 'unknown', address, detail: { problem, to: 'no request' } });
  const securityHeaders = await findSecurityHeaders(tls !== undefined);
  const slowRequests = new SlowRequests(requestMs, (raw) => noteRefused(raw.socket, 'ERR_HTTP_REQUEST_TIMEOUT'));
  onAnswer((request) => slowRequests.forget(request.raw));
  app.addHook('onClose', async () => slowRequests.close());
  app.addHook('onRequest', (request, reply, next) => {
    reply.headers(securityHeaders).header('x-request-id', request.id);
    const { headers, raw, routeOptions } = request;
    const encoding = headers['content-encoding'];
    if (encoding !== undefined && encoding !== 'identity') {
      next(
        problemError('unsupported-type', `Compressed bodies ("${encoding}") are not supported.`, {
          parameter: 'Content-Encoding',
        }),
      );
      return;
    }
    const hasBody = headers['transfer-encoding'] !== undefined || Number(headers['content-length'] ?? 0) > 0;
    if (hasBody && !routeOptions.config.takesLong) slowRequests.watch(raw);
    next();
  });
  // A response for one caller must not be cached for others.
  app.addHook('onSend', (request, reply, payload, next) => {
    if (!request.routeOptions.config?.open && !reply.hasHeader('cache-control')) {
      reply.header('cache-control', 'private, no-cache');
    }
    next(null, payload);
  });
  app.addHook('onSend', (_request, reply, payload, next) => {
    const bytes = bytesOfLarge(payload);
    if (!bytes) return next(null, payload);
    reply.header('content-length', bytes.length);
    next(null, inPieces(bytes));
  });
  // Malformed and slow requests never reach a route.
  app.server.on('clientError', ({ code = 'unknown' }: NodeJS.ErrnoException, socket: Duplex) => {
    if (code !== 'ECONNRESET') noteRefused(socket as Socket, code);
  });
  await app.register(cors, {
    // Pages of the store's own origin need no permission.
    origin: (origin, callback) => callback(null, origin !== undefined && originPolicy.allowsOthers(origin)),
    methods: ['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE'],
    exposedHeaders: EXPOSED,
    maxAge: 600,
  });
}

/** The security headers of every response, as helmet sets them. They do not depend on the request. */
async function findSecurityHeaders(secure: boolean): Promise<Record<string, string>> {
  const app = Fastify();
  await app.register(helmet, {
    contentSecurityPolicy: { useDefaults: false, directives: { defaultSrc: ["'none'"], frameAncestors: ["'none'"] } },
    strictTransportSecurity: secure,
    xFrameOptions: { action: 'deny' },
  });
  app.get('/', (_request, reply) => reply.code(204).send());
  const { headers } = await app.inject('/');
  await app.close();
  const own = Object.entries(headers).filter(([name]) => !['date', 'connection', 'content-length'].includes(name));
  return Object.fromEntries(own.map(([name, value]) => [name, String(value)]));
}

/** Cuts off requests whose bodies take too long. */
class SlowRequests {
  readonly #waiting = new Map<IncomingMessage, number>();
  readonly #timer: NodeJS.Timeout;

  constructor(limitMs: number, cutOff: (raw: IncomingMessage) => void) {
    this.#timer = setInterval(
      () => {
        const now = performance.now();
        for (const [raw, since] of this.#waiting) {
          if (raw.complete || raw.destroyed) this.#waiting.delete(raw);
          else if (now - since > limitMs) {
            this.#waiting.delete(raw);
            cutOff(raw);
            raw.destroy();
          }
        }
      },
      Math.min(1000, limitMs / 4),
    ).unref();
  }

  watch(raw: IncomingMessage): void {
    this.#waiting.set(raw, performance.now());
  }

  forget(raw: IncomingMessage): void {
    this.#waiting.delete(raw);
  }

  close(): void {
    clearInterval(this.#timer);
  }
}
