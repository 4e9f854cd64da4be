import { KeyForm, KeyInfo, NewKey, Problem, problemError } from '@uproar/protocol';
import type { FastifyInstance, FastifyReply } from 'fastify';
import { z } from 'zod';
import { auditAdministration } from './audit.js';
import type { Context } from '../../requests/context.js';
import { withSchemas, type Routes } from '../with-schemas.js';

/** The parts of the service that these routes use. */
type KeysContext = Pick<Context, 'identities'>;

const tags = ['access'];
const config = { admin: true };
const missing = (key: string) =>
  problemError('no-such-key', `The key "${key}" does not exist. GET /v1/keys lists the keys.`);

const Params = z.object({ key: z.string().max(100).describe('The id or the name of a key.') });

/** The keys of a store. */
export function serveKeys(app: FastifyInstance, context: KeysContext): void {
  const routes = withSchemas(app);
  serveListKeys(routes, context);
  serveCreateKey(routes, context);
  serveRotateKey(routes, context);
  serveRevokeKey(routes, context);
}

function serveListKeys(routes: Routes, context: KeysContext): void {
  const { identities } = context;
  const { keys } = identities;
  routes.get(
    '/v1/keys',
    {
      config,
      schema: {
        operationId: 'listKeys',
        tags,
        summary: 'List the keys',
        description: 'The key from `UPROAR_ADMIN_KEY` is not listed.',
        response: { 200: z.object({ keys: z.array(KeyInfo) }), default: Problem },
      },
    },
    () => ({ keys: keys.list() as KeyInfo[] }),
  );
}

function serveCreateKey(routes: Routes, context: KeysContext): void {
  const { identities } = context;
  const { keys } = identities;
  routes.post(
    '/v1/keys',
    {
      config,
      schema: {
        operationId: 'createKey',
        tags,
        summary: 'Make a key',
        description: 'Only this response contains the key itself.',
        body: KeyForm,
        response: { 201: NewKey, default: Problem },
      },
    },
    async (request, reply) => {
      const { expires, ...form } = request.body;
      const { key, info } = await keys.create({
        ...form,
        expiresMs: expires === undefined ? undefined : Date.parse(expires),
      });
      auditAdministration(context, request, 'key-created', { key: info.name, scope: info.scope });
      return reply
        .code(201)
        .header('cache-control', 'no-store')
        .send({ ...(info as KeyInfo), key });
    },
  );
}

function serveRotateKey(routes: Routes, context: KeysContext): void {
  const { identities } = context;
  const { keys } = identities;
  routes.post(
    '/v1/keys/:key/rotate',
    {
      config,
      schema: {
        operationId: 'rotateKey',
        tags,
        summary: 'Replace the secret of a key',
        params: Params,
        body: z.strictObject({
          keepOldSeconds: z
            .int()
            .nonnegative()
            .max(30 * 86_400)
            .default(0)
            .describe('How long the old secret stays valid.'),
        }),
        response: { 200: NewKey, default: Problem },
      },
    },
    async (request, reply) => {
      const rotated = await keys.rotate(request.params.key, request.body.keepOldSeconds * 1000);
      if (!rotated) throw missing(request.params.key);
      auditAdministration(context, request, 'key-rotated', { key: rotated.info.name });
      return reply.header('cache-control', 'no-store').send({ ...(rotated.info as KeyInfo), key: rotated.key });
    },
  );
}

function serveRevokeKey(routes: Routes, context: KeysContext): void {
  const { identities } = context;
  const { keys } = identities;
  routes.delete(
    '/v1/keys/:key',
    {
      config,
      schema: {
        operationId: 'revokeKey',
        tags,
        summary: 'Revoke a key',
        description: 'Also closes the connections that use it.',
        params: Params,
        response: { 204: z.null().describe('It is revoked.'), default: Problem },
      },
    },
    async (request, reply) => {
      const { key } = request.params;
      const name = keys.get(key)?.name ?? key;
      if (!(await keys.revoke(key))) throw missing(key);
      auditAdministration(context, request, 'key-revoked', { key: name });
      return (reply as FastifyReply).code(204).send();
    },
  );
}
