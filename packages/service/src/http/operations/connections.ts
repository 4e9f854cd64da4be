import { ConnectionListing, Problem, problemError, type ConnectionInfo } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { auditAdministration } from '../access/audit.js';
import type { Context } from '../../requests/context.js';

/** Who is connected, what each watches, and how far behind it is. */
export function serveConnections(
  app: FastifyInstance,
  context: Pick<Context, 'store' | 'identities' | 'connections'>,
): void {
  const { connections, store } = context;
  const routes = app.withTypeProvider<ZodTypeProvider>();
  routes.get(
    '/v1/connections',
    {
      config: { admin: true },
      schema: {
        operationId: 'listConnections',
        tags: ['operations'],
        summary: 'List the live connections, sorted by lag',
        querystring: z.strictObject({
          search: z
            .string()
            .max(200)
            .optional()
            .describe('Only connections whose identity, device, program, address or watches contain this text.'),
          limit: z.coerce.number().int().min(1).max(20_000).default(500),
        }),
        response: { 200: ConnectionListing, default: Problem },
      },
    },
    (request) => {
      const { search, limit } = request.query;
      const all = connections.list();
      const found = search === undefined ? all : all.filter((connection) => mentions(connection, search.toLowerCase()));
      const behind = new Map(found.map((connection) => [connection, lagOf(connection)]));
      found.sort((a, b) => behind.get(b)! - behind.get(a)! || b.unreadBytes - a.unreadBytes);
      return {
        connections: found.slice(0, limit),
        total: all.length,
        found: found.length,
        seq: store.log.seq,
      };
    },
  );
  routes.delete(
    '/v1/connections/:id',
    {
      config: { admin: true },
      schema: {
        operationId: 'endConnection',
        tags: ['operations'],
        summary: 'Break a connection off',
        description:
          'Clients reconnect by themselves. To keep one out, revoke its key, disable its account, or change the policy.',
        params: z.strictObject({ id: z.string().max(64) }),
        response: { 204: z.null().describe('The connection is closed.'), default: Problem },
      },
    },
    async (request, reply) => {
      const { id } = request.params;
      const identity = connections.disconnect(id);
      if (identity === undefined)
        throw problemError('no-such-connection', `The connection ${id} does not exist any more.`);
      auditAdministration(context, request, 'connection-ended', { connection: id, of: identity });
      return reply.code(204).send(null);
    },
  );
}

function lagOf({ watches }: ConnectionInfo): number {
  return watches.reduce((most, { commitsBehind }) => Math.max(most, commitsBehind), 0);
}

function mentions({ identity, device, agent, address, watches }: ConnectionInfo, text: string): boolean {
  const watched = watches.map(({ query, doc, journal }) => JSON.stringify(query ?? doc ?? journal ?? 'collections'));
  return [identity, device, agent, address, ...watched].some((part) => part?.toLowerCase().includes(text));
}
