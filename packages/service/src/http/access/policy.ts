import {
  accessFor,
  mergePatch,
  tryPolicy,
  type Claims,
  type Document,
  type JsonObject,
  type Policy,
} from '@uproar/core';
import {
  Listing,
  PolicyAnswer,
  PolicyAttempt,
  PolicyDecision,
  PolicyForm,
  PolicyPreview,
  PolicyVersion,
  Problem,
  problemError,
} from '@uproar/protocol';
import type { FastifyInstance, FastifyReply } from 'fastify';
import { z } from 'zod';
import { findPolicyWarnings } from '../../requests/check-policy.js';
import { parsePolicy } from '../../state/parse-policy.js';
import { findStored, readStored, type Store } from '../../store/index.js';
import { auditAdministration } from './audit.js';
import type { Context } from '../../requests/context.js';
import { prepareWireQuery } from '../../reading/prepare-query.js';
import { writeListing } from '../../requests/read-listing.js';
import { withSchemas, type Routes } from '../with-schemas.js';

/** The parts of the service that these routes use. */
type PolicyContext = Pick<Context, 'store' | 'identities' | 'committer'>;

const tags = ['access'];
const config = { admin: true };

/** The policy: who may read, create, update and delete what. */
export function servePolicy(app: FastifyInstance, context: PolicyContext): void {
  const routes = withSchemas(app);
  serveReadPolicy(routes, context);
  serveListPolicyVersions(routes, context);
  serveSetPolicy(routes, context);
  serveRevertPolicy(routes, context);
  serveTryPolicy(routes, context);
  servePreviewPolicy(routes, context);
}

function serveReadPolicy(routes: Routes, context: PolicyContext): void {
  const { identities } = context;
  const { policies } = identities;
  routes.get(
    '/v1/policy',
    {
      config,
      schema: {
        operationId: 'getPolicy',
        tags,
        summary: 'Read the policy',
        querystring: z.strictObject({ version: z.coerce.number().int().positive().optional() }),
        response: { 200: PolicyVersion, default: Problem },
      },
    },
    (request) => findVersion(policies, request.query.version),
  );
}

function serveListPolicyVersions(routes: Routes, context: PolicyContext): void {
  const { identities } = context;
  const { policies } = identities;
  routes.get(
    '/v1/policy/versions',
    {
      config,
      schema: {
        operationId: 'listPolicyVersions',
        tags,
        summary: 'List the versions of the policy, newest first',
        querystring: z.strictObject({ limit: z.coerce.number().int().min(1).max(1000).default(50) }),
        response: { 200: z.object({ versions: z.array(PolicyVersion) }), default: Problem },
      },
    },
    (request) => ({ versions: policies.list(request.query.limit) }),
  );
}

function serveSetPolicy(routes: Routes, context: PolicyContext): void {
  const { identities, store } = context;
  const { policies } = identities;
  routes.put(
    '/v1/policy',
    {
      config,
      schema: {
        operationId: 'setPolicy',
        tags,
        summary: 'Set or validate the policy',
        description: 'Takes effect at once, also in open watches. With `dryRun`, the policy is only validated.',
        body: PolicyForm,
        response: { 200: PolicyAnswer, default: Problem },
      },
    },
    async (request) => {
      const { text, note, ifVersion, dryRun } = request.body;
      const policy = parsePolicy(text);
      const warnings = await findPolicyWarnings(policy, store);
      if (dryRun) return { version: policies.version, text, warnings };
      const set = await policies.set(text, request.identity.author, note, ifVersion);
      auditAdministration(context, request, 'policy-changed', { version: set.version });
      return { ...set, warnings };
    },
  );
}

function serveRevertPolicy(routes: Routes, context: PolicyContext): void {
  const { identities, store } = context;
  const { policies } = identities;
  routes.post(
    '/v1/policy/revert',
    {
      config,
      schema: {
        operationId: 'revertPolicy',
        tags,
        summary: 'Restore an earlier version of the policy as a new version',
        body: z.strictObject({ version: z.int().positive() }),
        response: { 200: PolicyAnswer, default: Problem },
      },
    },
    async (request) => {
      const { version } = request.body;
      const { text } = findVersion(policies, version);
      const warnings = await findPolicyWarnings(parsePolicy(text), store);
      const set = await policies.set(text, request.identity.author, `as version ${version}`);
      auditAdministration(context, request, 'policy-changed', { version: set.version, as: version });
      return { ...set, warnings };
    },
  );
}

function serveTryPolicy(routes: Routes, context: PolicyContext): void {
  routes.post(
    '/v1/policy/try',
    {
      config,
      schema: {
        operationId: 'tryPolicy',
        tags,
        summary: 'Evaluate the policy for a request and explain the decision, without executing it',
        body: PolicyAttempt,
        response: { 200: PolicyDecision, default: Problem },
      },
    },
    (request) => decide(context, request.body),
  );
}

function servePreviewPolicy(routes: Routes, context: PolicyContext): void {
  const { identities, store } = context;
  routes.post(
    '/v1/policy/preview',
    {
      config,
      schema: {
        operationId: 'previewPolicy',
        tags,
        summary: 'Show a collection as a given identity would see it',
        body: PolicyPreview,
        response: { 200: Listing, default: Problem },
      },
    },
    async (request, reply) => {
      const { as, collection, where, limit, text } = request.body;
      const policy = text === undefined ? identities.policy : parsePolicy(text);
      const access = accessFor(policy, { claims: claimsOf(context, policy, as) }, collection);
      const query = prepareWireQuery({ from: collection, where, limit }, false, () => access);
      const reading = await store.reader.read(query, limit);
      const listing = writeListing(query, reading);
      return (reply as FastifyReply).type('application/json; charset=utf-8').send(listing);
    },
  );
}

function claimsOf({ identities }: Pick<Context, 'identities'>, policy: Policy, as: PolicyAttempt['as']): Claims {
  if (as === 'anonymous') {
    if (policy.anonymous) return {};
    throw problemError('key-missing', 'This policy does not allow anonymous callers; "anonymous: true" allows them.');
  }
  if ('claims' in as) return as.claims;
  const account = identities.accounts.find(as.account) ?? identities.accounts.get(as.account);
  const rights = account && identities.accounts.rightsOf(account.id);
  if (rights) return rights.claims;
  throw problemError(
    'no-such-account',
    account ? `The account ${as.account} is disabled.` : `The account "${as.account}" does not exist.`,
    { pointer: '/as/account' },
  );
}

function decide(context: PolicyContext, attempt: PolicyAttempt): PolicyDecision {
  const { as, do: rule, collection, id, data, merge, before: given, text } = attempt;
  const { identities, committer } = context;
  for (const [name, value] of Object.entries({ data, merge, before: given })) {
    if (value !== undefined) committer.checkData(value, { pointer: `/${name}` });
  }
  const policy = text === undefined ? identities.policy : parsePolicy(text);
  const claims = claimsOf(context, policy, as);
  const before =
    rule === 'create' ? undefined : given ? invent(given, id) : readExisting(context.store, collection, id);
  if (rule !== 'create' && !before) {
    const detail =
      id === undefined
        ? 'Name a document of the store by "id", or give one as "before".'
        : `There is no document ${collection}/${id}; give one as "before".`;
    throw problemError('no-such-document', detail, { pointer: '/id' });
  }
  const written = data ?? (merge && (mergePatch(before?.data ?? {}, merge) as JsonObject)) ?? before?.data;
  if (rule === 'create' && !written) {
    throw problemError('bad-request', 'To try to create a document, pass its data as "data".', { pointer: '/data' });
  }
  const after = rule === 'read' || rule === 'delete' ? undefined : { ...(before ?? invent({}, id)), data: written! };
  return tryPolicy(policy, { collection, rule, claims, before, after }) as PolicyDecision;
}

/** A document that is not in the store. */
function invent(data: JsonObject, id = 'new'): Document {
  const now = new Date().toISOString();
  return { id, version: 0, created: now, updated: now, data };
}

function readExisting(store: Store, collection: string, id: string | undefined): Document | undefined {
  const stored = id === undefined ? undefined : findStored(store, collection, id);
  return stored && readStored(stored);
}

/** @throws {ProblemError} `no-such-version` */
function findVersion(policies: PolicyContext['identities']['policies'], version: number | undefined) {
  const found = policies.get(version);
  if (found) return found;
  throw problemError(
    'no-such-version',
    `Version ${version} of the policy does not exist; the newest is ${policies.version}.`,
  );
}
