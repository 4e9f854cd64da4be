import { problemError } from '@uproar/protocol';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { formatIdentity, mayAdminister, type Identity } from '../identity/identity.js';
import type { RateState } from '../identity/rate-limits.js';
import { limitHolder } from '../requests/identity-scope.js';
import type { Context } from '../requests/context.js';
import { auditFailure, auditRefusal, readBearer } from '../requests/credentials.js';
import { problemFor } from './errors.js';

declare module 'fastify' {
  interface FastifyRequest {
    /** Who is asking. Set before any route that needs to know is run. */
    identity: Identity;
    /** The identity or address that memory is counted for. */
    holder: string;
  }
  interface FastifyContextConfig {
    /** True for the few routes that need no authentication. */
    open?: boolean;
    /** True for routes that signed links can lead to, which need no key. */
    signed?: boolean;
    /** True for routes whose bodies may take as long as data arrives. */
    takesLong?: boolean;
    /** True for routes that only keys with the scope `admin` may use. */
    admin?: boolean;
  }
}

/** Refusals with these statuses are recorded in the audit log. */
const NOTED: readonly number[] = [403, 413, 429];

/** Lets requests pass whose sender is known, may use the route, and has not asked too much. */
export function authenticateRequests(
  app: FastifyInstance,
  context: Pick<Context, 'identities' | 'rates' | 'originPolicy' | 'tickets' | 'links' | 'sockets'>,
): void {
  const { identities, rates, originPolicy, links } = context;
  app.decorateRequest('identity');
  app.decorateRequest('holder', '');
  /** The identity of a request with the key that its connection has sent before. Nothing is awaited for those. */
  const identifyAgain = (request: FastifyRequest): Identity | undefined => {
    const { authorization } = request.headers;
    if (authorization === undefined || rates.mayHaveFailed(request.ip)) return undefined;
    const secret = readBearer(authorization);
    return secret === undefined ? undefined : identities.identifyAgain(request.raw.socket, secret);
  };
  const identifySlowly = async (request: FastifyRequest, reply: FastifyReply): Promise<Identity> => {
    await rates.checkFailures(request.ip);
    let identity: Identity;
    try {
      identity =
        (await identifyByTicket(context, request)) ??
        (await identities.identifyOn(request.raw.socket, bearerOf(request)));
    } catch (error) {
      await auditFailure(context, error, request.ip, request.id);
      throw error;
    }
    if (identity.author.kind === 'open') originPolicy.checkHost(request.headers);
    request.identity = identity;
    sendRate(reply, await rates.count(identity, request.ip));
    return identity;
  };
  const admit = (request: FastifyRequest, identity: Identity): void => {
    request.identity = identity;
    request.holder = limitHolder(identity, request.ip);
    context.sockets.identify(request.raw.socket, request.holder);
    if (request.routeOptions.config.admin && !mayAdminister(identity)) {
      throw problemError(
        'admin-only',
        'The key that the first start printed has the scope "admin". "uproar key create NAME --scope admin" creates another one.',
      );
    }
  };
  app.addHook('onRequest', (request, reply, next) => {
    try {
      const { open, signed } = request.routeOptions.config;
      // Resources without authentication may be loaded by pages of any origin.
      if (!open || request.method !== 'GET') originPolicy.checkOrigin(request.headers);
      const parameters = request.query as Record<string, unknown>;
      if (signed && parameters.signature !== undefined) links.check(request.url.split('?')[0]!, parameters);
      else if (!open) {
        const known = parameters.ticket === undefined ? identifyAgain(request) : undefined;
        if (!known) {
          identifySlowly(request, reply)
            .then((identity) => admit(request, identity))
            .then(() => next(), next);
          return;
        }
        admit(request, known);
      }
    } catch (error) {
      next(error as Error);
      return;
    }
    next();
  });
  app.addHook('onError', async (request, _reply, error) => {
    const problem = problemFor(error, request);
    if (!NOTED.includes(problem.status)) return;
    auditRefusal(
      identities.audit,
      problem,
      request.identity ? formatIdentity(request.identity.author) : 'unknown',
      request,
      `${request.method} ${request.routeOptions.url ?? '?'}`,
    );
  });
}

/** Sends the remaining quota in the header fields of the IETF draft on rate limits for HTTP. */
function sendRate(reply: FastifyReply, state: RateState | undefined): void {
  if (!state) return;
  const { quota, left, resetSeconds } = state;
  reply.header('ratelimit-policy', `"identity";q=${quota.requests};w=${quota.seconds}`);
  reply.header('ratelimit', `"identity";r=${left};t=${resetSeconds}`);
}

/**
 * Identifies the caller by a ticket in the address. Clients that cannot send headers cannot send `Last-Event-ID`
 * either, so `resume` replaces it. Both are removed from the parameters.
 */
async function identifyByTicket(
  { tickets, identities }: Pick<Context, 'tickets' | 'identities'>,
  request: FastifyRequest,
): Promise<Identity | undefined> {
  const parameters = request.query as Record<string, unknown>;
  const { ticket, resume } = parameters;
  if (typeof ticket !== 'string') return undefined;
  delete parameters.ticket;
  if (typeof resume === 'string') request.headers['last-event-id'] ??= resume;
  delete parameters.resume;
  const identity = request.method === 'GET' ? await tickets.redeem(ticket, Date.now()) : undefined;
  if (identity) return identities.present(identity);
  throw problemError(
    'ticket-invalid',
    'A ticket is valid for one GET within 30 seconds. Get a new one with POST /v1/tickets.',
    {
      parameter: 'ticket',
    },
  );
}

function bearerOf(request: FastifyRequest): string | undefined {
  const header = request.headers.authorization;
  if (header === undefined) return undefined;
  const key = readBearer(header);
  if (key !== undefined) return key;
  throw problemError('key-missing', 'The Authorization header must read "Bearer <key>".', {
    parameter: 'Authorization',
  });
}
