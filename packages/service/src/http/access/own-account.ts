import { AccountInfo, Credentials, PasswordChange, Problem, problemError } from '@uproar/protocol';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { z } from 'zod';
import { auditAdministration } from './audit.js';
import type { Context } from '../../requests/context.js';
import { withSchemas, type Routes } from '../with-schemas.js';

/** The parts of the service that these routes use. */
type OwnAccountContext = Pick<Context, 'identities' | 'signIns'>;

const tags = ['accounts'];
const Done = z.null().describe('It is done.');

/** What a caller does with its own account. */
export function serveOwnAccount(app: FastifyInstance, context: OwnAccountContext): void {
  const routes = withSchemas(app);
  serveReadOwnAccount(routes, context);
  serveSetCredentials(routes, context);
  serveChangePassword(routes, context);
  serveSignOut(routes, context);
  serveSignOutEverywhere(routes, context);
}

function serveReadOwnAccount(routes: Routes, context: OwnAccountContext): void {
  const { identities } = context;
  const { accounts } = identities;
  routes.get(
    '/v1/accounts/me',
    {
      schema: {
        operationId: 'getOwnAccount',
        tags,
        summary: 'Read your account',
        response: { 200: AccountInfo, default: Problem },
      },
    },
    (request) => accounts.get(own(request).id)! as AccountInfo,
  );
}

function serveSetCredentials(routes: Routes, context: OwnAccountContext): void {
  const { identities, signIns } = context;
  const { accounts } = identities;
  routes.put(
    '/v1/accounts/me/credentials',
    {
      schema: {
        operationId: 'setOwnCredentials',
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
      return account as AccountInfo;
    },
  );
}

function serveChangePassword(routes: Routes, context: OwnAccountContext): void {
  const { identities, signIns } = context;
  const { accounts } = identities;
  routes.put(
    '/v1/accounts/me/password',
    {
      schema: {
        operationId: 'changeOwnPassword',
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
      await accounts.change(id, { password: request.body.new, endSessionsExcept: session });
      auditAdministration(context, request, 'password-changed', { account: id });
      return (reply as FastifyReply).code(204).send();
    },
  );
}

function serveSignOut(routes: Routes, context: OwnAccountContext): void {
  const { identities } = context;
  const { sessions } = identities;
  routes.delete(
    '/v1/sessions/current',
    { schema: { operationId: 'signOut', tags, summary: 'Sign out', response: { 204: Done, default: Problem } } },
    async (request, reply) => {
      await sessions.end(own(request).session);
      return (reply as FastifyReply).code(204).send();
    },
  );
}

function serveSignOutEverywhere(routes: Routes, context: OwnAccountContext): void {
  const { identities } = context;
  const { sessions } = identities;
  routes.delete(
    '/v1/sessions',
    {
      schema: {
        operationId: 'signOutEverywhere',
        tags,
        summary: 'Sign out everywhere',
        response: { 204: Done, default: Problem },
      },
    },
    async (request, reply) => {
      const { id } = own(request);
      await sessions.endAll(id);
      auditAdministration(context, request, 'signed-out-everywhere', { account: id });
      return (reply as FastifyReply).code(204).send();
    },
  );
}

/** The account and session of the caller. */
function own(request: FastifyRequest) {
  const { author, origin } = request.identity;
  if (author.kind === 'account') return { id: author.name, session: origin.id };
  throw problemError('bad-request', 'This request needs the access token of an account.');
}
