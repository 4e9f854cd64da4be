import { type JsonObject } from '@uproar/core';
import { AccountChange, AccountForm, AccountInfo, Grant, Problem, problemError } from '@uproar/protocol';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { z } from 'zod';
import { OWN_CLAIMS } from '../../identity/accounts.js';
import { mayAdminister } from '../../identity/identity.js';
import { auditAdministration } from './audit.js';
import { describeGrant } from './sessions.js';
import { auditFailure, readBearer } from '../../requests/credentials.js';
import type { Context } from '../../requests/context.js';
import { withSchemas, type Routes } from '../with-schemas.js';

/** The parts of the service that these routes use. */
type AccountsContext = Pick<Context, 'identities' | 'rates' | 'signIns'>;

const tags = ['accounts'];
const config = { admin: true };
const Done = z.null().describe('It is done.');
const Params = z.object({ account: z.string().max(200).describe('The id of an account.') });

/** Registering accounts, and their administration. */
export function serveAccountAdministration(app: FastifyInstance, context: AccountsContext): void {
  const routes = withSchemas(app);
  serveCreateAccount(routes, context);
  serveListAccounts(routes, context);
  serveChangeAccount(routes, context);
  serveRemoveAccount(routes, context);
}

function serveCreateAccount(routes: Routes, context: AccountsContext): void {
  const { identities, signIns, rates } = context;
  const { accounts, sessions } = identities;
  routes.post(
    '/v1/accounts',
    {
      config: { open: true },
      schema: {
        operationId: 'createAccount',
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
      return isAdmin ? (account as AccountInfo) : describeGrant(await sessions.begin(account.id, Date.now()));
    },
  );
}

function serveListAccounts(routes: Routes, context: AccountsContext): void {
  const { identities } = context;
  const { accounts } = identities;
  routes.get(
    '/v1/accounts',
    {
      config,
      schema: {
        operationId: 'listAccounts',
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
}

function serveChangeAccount(routes: Routes, context: AccountsContext): void {
  const { identities } = context;
  const { accounts } = identities;
  routes.patch(
    '/v1/accounts/:account',
    {
      config,
      schema: {
        operationId: 'updateAccount',
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
      const { id } = findAccount(accounts, request.params.account);
      const { claims, disabled, password } = request.body;
      const endSessionsExcept = password !== undefined || disabled === true ? '' : undefined;
      await accounts.change(id, { password, claims: checkClaims(claims), disabled, endSessionsExcept });
      auditAdministration(context, request, 'account-changed', {
        account: id,
        what: Object.keys(request.body).join(', '),
      });
      return accounts.get(id)! as AccountInfo;
    },
  );
}

function serveRemoveAccount(routes: Routes, context: AccountsContext): void {
  const { identities } = context;
  const { accounts } = identities;
  routes.delete(
    '/v1/accounts/:account',
    {
      config,
      schema: {
        operationId: 'deleteAccount',
        tags,
        summary: 'Remove an account',
        params: Params,
        response: { 204: Done, default: Problem },
      },
    },
    async (request, reply) => {
      const { id } = findAccount(accounts, request.params.account);
      await accounts.remove(id);
      auditAdministration(context, request, 'account-removed', { account: id });
      return (reply as FastifyReply).code(204).send();
    },
  );
}

/** @throws {ProblemError} `no-such-account` */
function findAccount(accounts: AccountsContext['identities']['accounts'], account: string) {
  const found = accounts.get(account);
  if (found) return found;
  throw problemError(
    'no-such-account',
    `The account "${account}" does not exist. GET /v1/accounts lists the accounts.`,
  );
}

/** Whether a request to an open address comes from an administrator. */
async function isAdministrator(
  { identities, rates }: Pick<Context, 'identities' | 'rates'>,
  request: FastifyRequest,
): Promise<boolean> {
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

function checkClaims(claims: JsonObject | undefined) {
  const taken = claims && Object.keys(claims).find((name) => OWN_CLAIMS.includes(name));
  if (taken === undefined) return claims;
  throw problemError('bad-request', `The claim "${taken}" is reserved; it is set from the account.`, {
    pointer: `/claims/${taken}`,
  });
}
