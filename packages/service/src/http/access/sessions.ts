import { formatTime } from '@uproar/core';
import { Credentials, Grant, Problem, problemError } from '@uproar/protocol';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { z } from 'zod';
import type { Grant as StoredGrant } from '../../identity/sessions.js';
import { auditAdministration } from './audit.js';
import type { Context } from '../../requests/context.js';
import { withSchemas, type Routes } from '../with-schemas.js';

/** The parts of the service that these routes use. */
type SessionsContext = Pick<Context, 'identities' | 'rates' | 'signIns'>;

const tags = ['accounts'];
const config = { open: true };

/** Signing in. These routes need no key, so their cost is limited by address. */
export function serveSessions(app: FastifyInstance, context: SessionsContext): void {
  const routes = withSchemas(app);
  serveCreateGuest(routes, context);
  serveSignIn(routes, context);
  serveRefreshSession(routes, context);
}

function serveCreateGuest(routes: Routes, context: SessionsContext): void {
  const { identities, signIns } = context;
  const { accounts, sessions } = identities;
  routes.post(
    '/v1/accounts/guests',
    {
      config,
      schema: {
        operationId: 'createGuest',
        tags,
        summary: 'Begin as a guest',
        security: [],
        response: { 201: Grant, default: Problem },
      },
    },
    async (request, reply) => {
      await requireMode(context, request, 'open');
      await signIns.countSignUp(request.ip);
      const account = await accounts.createGuest();
      auditAdministration(context, request, 'guest', {}, `account:${account.id}`);
      return send(reply, await sessions.begin(account.id, Date.now()), 201);
    },
  );
}

function serveSignIn(routes: Routes, context: SessionsContext): void {
  const { identities, signIns } = context;
  const { accounts, sessions } = identities;
  routes.post(
    '/v1/sessions',
    {
      config,
      schema: {
        operationId: 'signIn',
        tags,
        summary: 'Sign in',
        security: [],
        body: Credentials.extend({ password: z.string().max(200) }),
        response: { 201: Grant, default: Problem },
      },
    },
    async (request, reply) => {
      await requireMode(context, request, 'closed', 'open');
      const { name, password } = request.body;
      await signIns.begin(name, request.ip);
      const account = await accounts.verify(name, password);
      if (!account) {
        auditAdministration(context, request, 'sign-in-failed', { name }, 'unknown');
        throw problemError('sign-in-failed', 'The name or the password is wrong.');
      }
      await signIns.countSuccess(name, request.ip);
      auditAdministration(context, request, 'sign-in', { name }, `account:${account.id}`);
      return send(reply, await sessions.begin(account.id, Date.now()), 201);
    },
  );
}

function serveRefreshSession(routes: Routes, context: SessionsContext): void {
  const { identities, rates } = context;
  const { sessions } = identities;
  routes.post(
    '/v1/sessions/refresh',
    {
      config,
      schema: {
        operationId: 'refreshSession',
        tags,
        summary: 'Get the next access token',
        description:
          'A refresh token is valid once. If it is sent again after its successor was used, the session ends, because two clients have it.',
        security: [],
        body: z.strictObject({ refreshToken: z.string().max(200) }),
        response: { 200: Grant, default: Problem },
      },
    },
    async (request, reply) => {
      await requireMode(context, request, 'closed', 'open');
      await rates.checkFailures(request.ip);
      const refreshed = await sessions.refresh(request.body.refreshToken, Date.now());
      if (refreshed && 'grant' in refreshed) return send(reply, refreshed.grant, 200);
      if (refreshed) {
        auditAdministration(context, request, 'refresh-reused', {}, `account:${refreshed.reused.account}`);
      }
      await rates.countFailure(request.ip);
      throw problemError('token-invalid', 'This refresh token is no longer valid. Sign in again.');
    },
  );
}

/**
 * Checks that accounts of this kind are enabled, and counts the attempt for the address.
 *
 * @throws {ProblemError} `accounts-off`, or `too-many-requests`
 */
function requireMode(
  { identities, rates }: Pick<Context, 'identities' | 'rates'>,
  request: FastifyRequest,
  ...modes: string[]
): Promise<void> {
  if (modes.includes(identities.accountsMode)) return rates.countAddress(request.ip);
  throw problemError(
    'accounts-off',
    identities.accountsMode === 'off'
      ? 'Accounts are disabled in this store. Use a key or a token.'
      : 'Only administrators create accounts in this store. Ask one of them.',
  );
}

function send(reply: unknown, grant: StoredGrant, status: 200 | 201) {
  return (reply as FastifyReply).code(status).header('cache-control', 'no-store').send(describeGrant(grant));
}

/** The tokens of a session, as they are sent. */
export function describeGrant({
  account,
  accessToken,
  accessUntilMs,
  refreshToken,
  refreshUntilMs,
}: StoredGrant): Grant {
  return {
    account,
    accessToken,
    accessExpires: formatTime(accessUntilMs),
    refreshToken,
    refreshExpires: formatTime(refreshUntilMs),
  };
}
