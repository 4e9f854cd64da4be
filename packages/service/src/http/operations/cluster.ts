import { formatTime } from '@uproar/core';
import { createReadStream } from 'node:fs';
import { ClusterState, EtcdTrial, Problem, problemError, type ProblemError } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import { z } from 'zod';
import { PEER_TICKETS_PATH } from '../../identity/peer-tickets.js';
import type { Context } from '../../requests/context.js';
import { withSchemas } from '../with-schemas.js';

/** Since when the answering node may lack what others have written, while it cannot reach the log service. */
const STALE_HEADER = 'uproar-stale-since';

/** The seq that a client has seen; the node waits until it has it, too. */
const SEEN_HEADER = 'uproar-seen';

const Content = z.object({ sha256: z.string().regex(/^[0-9a-f]{64}$/) });

const PeerTicket = z.object({ identity: z.record(z.string(), z.unknown()).describe('Who got the ticket.') });

/** The nodes of a cluster, and requests that must not be answered with an earlier state than another node has shown. */
export function serveCluster(
  app: FastifyInstance,
  { cluster, store, tickets }: Pick<Context, 'cluster' | 'store' | 'tickets'>,
): void {
  const routes = withSchemas(app);
  if (cluster) {
    app.addHook('onSend', async (_request, reply) => {
      const { staleSinceMs } = cluster;
      if (staleSinceMs !== undefined) reply.header(STALE_HEADER, formatTime(staleSinceMs));
    });
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
        operationId: 'getCluster',
        tags: ['operations'],
        summary: 'Get the nodes of the cluster',
        description: 'As this node sees them. Each node reports about once a second.',
        response: { 200: ClusterState, default: Problem },
      },
    },
    async () => {
      if (!cluster) throw noCluster();
      const etcd = await cluster.lookAtEtcd();
      const { node, founding, nodes, leases, staleSinceMs, halted } = cluster.status();
      const last = Math.max(...nodes.map(({ place }) => place), founding.place);
      return {
        node,
        store: founding.store,
        place: last,
        nodes: nodes.map(({ hash: _hash, timeMs: _timeMs, revision: _revision, ...known }) => known),
        leases,
        etcd,
        ...(staleSinceMs === undefined ? {} : { staleSince: formatTime(staleSinceMs) }),
        ...(halted === undefined ? {} : { halted }),
      };
    },
  );
  routes.post(
    '/v1/cluster/trial',
    {
      config: { admin: true },
      schema: {
        operationId: 'tryCluster',
        tags: ['operations'],
        summary: 'Try whether etcd takes the largest entries of the log',
        description: 'It writes an entry of that size under a key of its own and removes it.',
        response: { 200: EtcdTrial, default: Problem },
      },
    },
    async () => {
      if (!cluster) throw noCluster();
      try {
        return { taken: true, tookMs: await cluster.tryLargestEntry() };
      } catch (error) {
        return { taken: false, reason: (error as Error).message };
      }
    },
  );
  routes.post(
    PEER_TICKETS_PATH,
    {
      config: { admin: true },
      schema: {
        operationId: 'redeemClusterTicket',
        tags: ['operations'],
        summary: 'Redeem a ticket of this node, for another node',
        body: z.strictObject({ ticket: z.string().max(200) }),
        response: { 200: PeerTicket, default: Problem },
      },
    },
    (request) => {
      const identity = tickets.redeemHere(request.body.ticket, Date.now());
      if (!identity) throw problemError('ticket-invalid', 'The ticket was used, or it has expired.');
      return { identity: identity as unknown as Record<string, unknown> };
    },
  );
  routes.get(
    '/v1/cluster/contents/:sha256',
    {
      config: { admin: true, described: { responseTypes: ['application/octet-stream'] } },
      schema: {
        operationId: 'getClusterContent',
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
        operationId: 'offerClusterContent',
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

function noCluster(): ProblemError {
  return problemError('no-cluster', 'This store is on one node. Start it with --cluster to have several.');
}
