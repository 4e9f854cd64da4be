import { formatTime, type JsonObject } from '@uproar/core';
import {
  AccountChange,
  AccountForm,
  AccountInfo,
  Credentials,
  Grant,
  PasswordChange,
  Problem,
  problemError,
} from '@uproar/protocol';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { OWN_CLAIMS } from '../../identity/accounts.js';
import { mayAdminister } from '../../identity/identity.js';
import type { Grant as StoredGrant } from '../../identity/sessions.js';
import { auditAdministration } from './audit.js';
import { auditFailure, readBearer } from '../../requests/credentials.js';
import type { Context } from '../../requests/context.js';

const Done = z.null().describe('It is done.');
const Params = z.object({ account: z.string().max(200).describe('The id of an account.') });

/** Accounts: signing up and in, sessions, and their administration. */
export function serveAccounts(app: FastifyInstance, context: Context): void {
  serveSessions(app, context);
  serveOwnAccount(app, context);
  serveAccountAdministration(app, context);
}

/** Getting in, and out again. These are open to everybody, so what they cost is fenced in by address. */
function serveSessions(app: FastifyInstance, context: Context): void {
  const routes = app.withTypeProvider<ZodTypeProvider>();
  const { identities, signIns, rates } = context;
  const { accounts, sessions } = identities;
  const tags = ['accounts'];
  const config = { open: true };
  const send = (reply: unknown, grant: StoredGrant, status: 200 | 201) =>
    (reply as FastifyReply).code(status).header('cache-control', 'no-store').send(describeGrant(grant));
  const requireMode = (request: FastifyRequest, ...modes: string[]) => {
    if (modes.includes(identities.accountsMode)) return rates.countAddress(request.ip);
    throw problemError(
      'accounts-off',
      identities.accountsMode === 'off'
        ? 'Accounts are disabled in this store. Use a key or a token.'
        : 'Only administrators create accounts in this store. Ask one of them.',
    );
  };

  routes.post(
    '/v1/accounts/guests',
    {
      config,
      schema: { tags, summary: 'Begin as a guest', security: [], response: { 201: Grant, default: Problem } },
    },
    async (request, reply) => {
      await requireMode(request, 'open');
      await signIns.countSignUp(request.ip);
      const account = accounts.createGuest();
      auditAdministration(context, request, 'guest', {}, `account:${account.id}`);
      return send(reply, sessions.begin(account.id, Date.now()), 201);
    },
  );
  routes.post(
    '/v1/sessions',
    {
      config,
      schema: {
        tags,
        summary: 'Sign in',
        security: [],
        body: Credentials.extend({ password: z.string().max(200) }),
        response: { 201: Grant, default: Problem },
      },
    },
    async (request, reply) => {
      await requireMode(request, 'closed', 'open');
      const { name, password } = request.body;
      await signIns.begin(name, request.ip);
      const account = await accounts.verify(name, password);
      if (!account) {
        auditAdministration(context, request, 'sign-in-failed', { name }, 'unknown');
        throw problemError('sign-in-failed', 'The name or the password is wrong.');
      }
      await signIns.countSuccess(name, request.ip);
      auditAdministration(context, request, 'sign-in', { name }, `account:${account.id}`);
      return send(reply, sessions.begin(account.id, Date.now()), 201);
    },
  );
  routes.post(
    '/v1/sessions/refresh',
    {
      config,
      schema: {
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
      await requireMode(request, 'closed', 'open');
      await rates.checkFailures(request.ip);
      const refreshed = sessions.refresh(request.body.refreshToken, Date.now());
      if (refreshed && 'grant' in refreshed) {
        if (accounts.rightsOf(refreshed.grant.account)) return send(reply, refreshed.grant, 200);
        sessions.end(refreshed.grant.session);
      } else if (refreshed) {
        auditAdministration(context, request, 'refresh-reused', {}, `account:${refreshed.reused.account}`);
        identities.accountChanged(refreshed.reused.account);
      }
      await rates.countFailure(request.ip);
      throw problemError('token-invalid', 'This refresh token is no longer valid. Sign in again.');
    },
  );
}

/** What somebody does with an account of their own. */
function serveOwnAccount(app: FastifyInstance, context: Context): void {
  const routes = app.withTypeProvider<ZodTypeProvider>();
  const { identities, signIns } = context;
  const { accounts, sessions } = identities;
  const tags = ['accounts'];
  const own = (request: FastifyRequest) => {
    const { author, origin } = request.identity;
    if (author.kind === 'account') return { id: author.name, session: origin.id };
    throw problemError('bad-request', 'This request needs the access token of an account.');
  };

  routes.get(
    '/v1/accounts/me',
    { schema: { tags, summary: 'Read your account', response: { 200: AccountInfo, default: Problem } } },
    (request) => accounts.get(own(request).id)! as AccountInfo,
  );
  routes.put(
    '/v1/accounts/me/credentials',
    {
      schema: {
        tags,
        summary: 'Turn a guest into an account with a name and a password',
        description: 'The id stays the same.',
        body: Credentials,
        response: { 200: AccountInfo, default: Problem },
      },
    },
    async (request) => {
      const { id } = own(request);
      await signIns.countSignUp(request.ip);
      const account = await accounts.adopt(id, request.body.name, request.body.password);
      auditAdministration(context, request, 'account-created', { account: id });
      identities.accountChanged(id);
      return account as AccountInfo;
    },
  );
  routes.put(
    '/v1/accounts/me/password',
    {
      schema: {
        tags,
        summary: 'Change your password',
        description: 'Ends all other sessions of the account.',
        body: PasswordChange,
        response: { 204: Done, default: Problem },
      },
    },
    async (request, reply) => {
      const { id, session } = own(request);
      await signIns.begin(id, request.ip);
      if (!(await accounts.verifyById(id, request.body.old))) {
        throw problemError('sign-in-failed', 'The old password is wrong.', { pointer: '/old' });
      }
      await accounts.setPassword(id, request.body.new);
      sessions.endAll(id, session);
      auditAdministration(context, request, 'password-changed', { account: id });
      identities.accountChanged(id);
      return (reply as FastifyReply).code(204).send();
    },
  );
  routes.delete(
    '/v1/sessions/current',
    { schema: { tags, summary: 'Sign out', response: { 204: Done, default: Problem } } },
    async (request, reply) => {
      const { id, session } = own(request);
      sessions.end(session);
      identities.accountChanged(id);
      return (reply as FastifyReply).code(204).send();
    },
  );
  routes.delete(
    '/v1/sessions',
    { schema: { tags, summary: 'Sign out everywhere', response: { 204: Done, default: Problem } } },
    async (request, reply) => {
      const { id } = own(request);
      sessions.endAll(id);
      auditAdministration(context, request, 'signed-out-everywhere', { account: id });
      identities.accountChanged(id);
      return (reply as FastifyReply).code(204).send();
    },
  );
}

/** Making accounts: by whoever likes, where sign-up is open, and by administrators, who see and alter all of them. */
function serveAccountAdministration(app: FastifyInstance, context: Context): void {
  const routes = app.withTypeProvider<ZodTypeProvider>();
  const { identities, signIns, rates } = context;
  const { accounts, sessions } = identities;
  const tags = ['accounts'];
  const config = { admin: true };
  const find = (account: string) => {
    const found = accounts.get(account);
    if (found) return found;
    throw problemError(
      'no-such-account',
      `The account "${account}" does not exist. GET /v1/accounts lists the accounts.`,
    );
  };
  const checkClaims = (claims: JsonObject | undefined) => {
    const taken = claims && Object.keys(claims).find((name) => OWN_CLAIMS.includes(name));
    if (taken === undefined) return claims;
    throw problemError('bad-request', `The claim "${taken}" is reserved; it is set from the account.`, {
      pointer: `/claims/${taken}`,
    });
  };

  routes.post(
    '/v1/accounts',
    {
      config: { open: true },
      schema: {
        tags,
        summary: 'Register, or create an account',
        description:
          'With an admin key, creates an account with claims. Without, registers an account, if self-registration is enabled.',
        body: AccountForm,
        response: { 201: z.union([Grant, AccountInfo]), default: Problem },
      },
    },
    async (request, reply) => {
      const { name, password, claims } = request.body;
      const isAdmin = await isAdministrator(context, request);
      if (!isAdmin && (identities.accountsMode !== 'open' || claims !== undefined)) {
        throw problemError(
          'accounts-off',
          claims === undefined
            ? 'Self-registration is disabled. Ask an administrator for an account.'
            : 'Only administrators can set claims. Register without them.',
        );
      }
      if (!isAdmin) {
        await rates.countAddress(request.ip);
        await signIns.countSignUp(request.ip);
      }
      const account = await accounts.create(name, password, checkClaims(claims));
      auditAdministration(
        context,
        request,
        'account-created',
        { account: account.id },
        isAdmin ? undefined : `account:${account.id}`,
      );
      reply.code(201).header('cache-control', 'no-store');
      return isAdmin ? (account as AccountInfo) : describeGrant(sessions.begin(account.id, Date.now()));
    },
  );
  routes.get(
    '/v1/accounts',
    {
      config,
      schema: {
        tags,
        summary: 'List the accounts, in the order of creation',
        querystring: z.strictObject({
          after: z.string().max(100).default('').describe('The id of the last account of the previous page.'),
          name: z.string().max(200).optional().describe('Only the account with this name.'),
          limit: z.coerce.number().int().min(1).max(1000).default(100),
        }),
        response: { 200: z.object({ accounts: z.array(AccountInfo) }), default: Problem },
      },
    },
    (request) => {
      const { after, name, limit } = request.query;
      const found = name === undefined ? accounts.list(after, limit) : [accounts.find(name) ?? []].flat();
      return { accounts: found as AccountInfo[] };
    },
  );
  routes.patch(
    '/v1/accounts/:account',
    {
      config,
      schema: {
        tags,
        summary: 'Alter an account',
        description: 'Open watches are updated at once. A disabled account is signed out everywhere.',
        consumes: ['application/json', 'application/merge-patch+json'],
        params: Params,
        body: AccountChange,
        response: { 200: AccountInfo, default: Problem },
      },
    },
    async (request) => {
      const { id } = find(request.params.account);
      const { claims, disabled, password } = request.body;
      if (password !== undefined) await accounts.setPassword(id, password);
      accounts.alter(id, { claims: checkClaims(claims), disabled });
      if (password !== undefined || disabled === true) sessions.endAll(id);
      auditAdministration(context, request, 'account-altered', {
        account: id,
        what: Object.keys(request.body).join(', '),
      });
      identities.accountChanged(id);
      return accounts.get(id)! as AccountInfo;
    },
  );
  routes.delete(
    '/v1/accounts/:account',
    {
      config,
      schema: { tags, summary: 'Remove an account', params: Params, response: { 204: Done, default: Problem } },
    },
    async (request, reply) => {
      const { id } = find(request.params.account);
      accounts.remove(id);
      auditAdministration(context, request, 'account-removed', { account: id });
      identities.accountChanged(id);
      return (reply as FastifyReply).code(204).send();
    },
  );
}

/** Tells whether a request to an open address comes from somebody who may administer. */
async function isAdministrator({ identities, rates }: Context, request: FastifyRequest): Promise<boolean> {
  const secret = readBearer(request.headers.authorization);
  if (secret === undefined) return false;
  await rates.checkFailures(request.ip);
  try {
    request.identity = await identities.identify(secret);
  } catch (error) {
    await auditFailure({ identities, rates }, error, request.ip, request.id);
    throw error;
  }
  return mayAdminister(request.identity);
}

function describeGrant({ account, accessToken, accessUntilMs, refreshToken, refreshUntilMs }: StoredGrant): Grant {
  return {
    account,
    accessToken,
    accessExpires: formatTime(accessUntilMs),
    refreshToken,
    refreshExpires: formatTime(refreshUntilMs),
  };
}
