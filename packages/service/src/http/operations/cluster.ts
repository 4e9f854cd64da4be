import { formatTime } from '@uproar/core';
import { ClusterState, Problem, problemError } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { Context } from '../../requests/context.js';
import { withSchemas } from '../with-schemas.js';

/** The seq that a client has seen; the node waits until it has it, too. */
const SEEN_HEADER = 'uproar-seen';

/** The nodes of a cluster, and requests that must not be answered with an earlier state than another node has shown. */
export function serveCluster(app: FastifyInstance, { cluster }: Pick<Context, 'cluster'>): void {
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
  withSchemas(app).get(
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
        nodes: nodes.map(({ hash: _, timeMs, ...known }) => ({
          ...known,
          time: formatTime(timeMs),
          lag: last - known.place,
        })),
        ...(staleSinceMs === undefined ? {} : { staleSince: formatTime(staleSinceMs) }),
        ...(halted === undefined ? {} : { halted }),
      };
    },
  );
}
