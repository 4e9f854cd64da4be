import { problemError } from '@uproar/protocol';
import type { FastifyInstance, FastifyRequest } from 'fastify';
import type { Identity, Keys } from '../identity/keys.js';
import type { Tickets } from '../identity/tickets.js';

declare module 'fastify' {
  interface FastifyRequest {
    /** Who is asking. Set before any route that needs a key is run. */
    identity: Identity;
  }
  interface FastifyContextConfig {
    /** True for the few routes that are served without a key. */
    open?: boolean;
  }
}

/** Lets requests pass that carry a known key as `Authorization: Bearer` (RFC 6750, section 2.1). */
export function requireKey(app: FastifyInstance, keys: Keys, tickets: Tickets): void {
  app.decorateRequest('identity');
  app.addHook('onRequest', async (request) => {
    if (request.routeOptions.config?.open) return;
    request.identity = identifyByTicket(tickets, request) ?? identify(keys, request);
  });
}

/**
 * Tells who asks by a ticket in the address. What cannot send headers cannot send `Last-Event-ID` either: `resume` stands for it.
 * Both are taken out of the parameters.
 */
function identifyByTicket(tickets: Tickets, request: FastifyRequest): Identity | undefined {
  const parameters = request.query as Record<string, unknown>;
  const { ticket, resume } = parameters;
  if (typeof ticket !== 'string') return undefined;
  delete parameters.ticket;
  if (typeof resume === 'string') request.headers['last-event-id'] ??= resume;
  delete parameters.resume;
  const identity = request.method === 'GET' ? tickets.redeem(ticket, Date.now()) : undefined;
  if (identity) return identity;
  throw problemError(
    'ticket-unknown',
    'A ticket is good for one GET, within 30 seconds. Get another with POST /v1/tickets.',
    {
      parameter: 'ticket',
    },
  );
}

function identify(keys: Keys, request: FastifyRequest): Identity {
  const header = request.headers.authorization;
  if (header === undefined) {
    throw problemError('key-missing', 'Send the key of the store as "Authorization: Bearer <key>".');
  }
  const key = /^Bearer +([\x21-\x7e]+) *$/i.exec(header)?.[1];
  if (key === undefined) {
    throw problemError('key-missing', 'The Authorization header must read "Bearer <key>".', {
      parameter: 'Authorization',
    });
  }
  return identifyKey(keys, key);
}

/**
 * Tells whose key this is.
 *
 * @throws {ProblemError} `key-unknown`
 */
export function identifyKey(keys: Keys, key: string): Identity {
  const identity = keys.identify(key);
  if (!identity) {
    throw problemError(
      'key-unknown',
      'The store does not know this key. The first start printed one; starting with UPROAR_ADMIN_KEY sets one.',
    );
  }
  return identity;
}
