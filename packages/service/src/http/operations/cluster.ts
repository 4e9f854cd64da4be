import { formatTime } from '@uproar/core';
import { createReadStream } from 'node:fs';
import { ClusterState, Problem, problemError } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import { z } from 'zod';
import type { Context } from '../../requests/context.js';
import { withSchemas } from '../with-schemas.js';

/** The seq that a client has seen; the node waits until it has it, too. */
const SEEN_HEADER = 'uproar-seen';

const Content = z.object({ sha256: z.string().regex(/^[0-9a-f]{64}$/) });

/** The nodes of a cluster, and requests that must not be answered with an earlier state than another node has shown. */
export function serveCluster(app: FastifyInstance, { cluster, store }: Pick<Context, 'cluster' | 'store'>): void {
  const routes = withSchemas(app);
  if (cluster) {
    app.addHook('preHandler', async ({ headers }) => {
      const given = headers[SEEN_HEADER];
      if (given === undefined) return;
      const seen = Number(given);
      if (!Number.isSafeInteger(seen) || seen < 0) {
        throw problemError('bad-request', 'The header Uproar-Seen has a seq: a whole number.', {
          parameter: 'Uproar-Seen',
        });
      }
      await cluster.waitFor(seen);
    });
  }
  routes.get(
    '/v1/cluster',
    {
      config: { admin: true },
      schema: {
        tags: ['operations'],
        summary: 'Get the nodes of the cluster',
        description: 'As this node sees them. Each node reports about once a second.',
        response: { 200: ClusterState, default: Problem },
      },
    },
    () => {
      if (!cluster)
        throw problemError('no-cluster', 'This store is on one node. Start it with --cluster to have several.');
      const { node, founding, nodes, staleSinceMs, halted } = cluster.status();
      const last = Math.max(...nodes.map(({ place }) => place), founding.place);
      return {
        node,
        store: founding.store,
        place: last,
        nodes: nodes.map(({ hash: _hash, timeMs: _timeMs, revision: _revision, ...known }) => ({
          ...known,
          lag: last - known.place,
        })),
        ...(staleSinceMs === undefined ? {} : { staleSince: formatTime(staleSinceMs) }),
        ...(halted === undefined ? {} : { halted }),
      };
    },
  );
  routes.get(
    '/v1/cluster/contents/:sha256',
    {
      config: { admin: true, described: { responseTypes: ['application/octet-stream'] } },
      schema: {
        tags: ['operations'],
        summary: 'Get the content of a file, for another node',
        params: Content,
        response: { 200: z.unknown().describe('The content.'), default: Problem },
      },
    },
    async (request, reply) => {
      const { sha256 } = request.params;
      if (!store.contents.has(sha256)) throw problemError('behind', 'This node does not have the content.');
      return reply.type('application/octet-stream').send(createReadStream(store.contents.path(sha256))) as never;
    },
  );
  routes.post(
    '/v1/cluster/contents/:sha256',
    {
      config: { admin: true },
      schema: {
        tags: ['operations'],
        summary: 'Copy the content of a file from another node',
        params: Content,
        response: { 204: z.null().describe('This node has it.'), default: Problem },
      },
    },
    async (request, reply) => {
      await cluster?.contents.ensure(request.params.sha256);
      return reply.code(204).send(null);
    },
  );
}
