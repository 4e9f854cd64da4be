import { Problem, UsageParameters, UsageReport } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import type { Context } from '../../requests/context.js';
import { readUsage } from '../../usage/read-usage.js';

/** What each identity has used of each collection. */
export function serveUsage(app: FastifyInstance, { store, usage }: Pick<Context, 'store' | 'usage'>): void {
  app.withTypeProvider<ZodTypeProvider>().get(
    '/v1/usage',
    {
      config: { admin: true },
      schema: {
        operationId: 'getUsage',
        tags: ['operations'],
        summary: 'Read what identities use, by day and collection',
        description:
          'Usage is counted by day (UTC) and recorded once a minute on each node. The answer includes what the answering node has not recorded yet. A node that is killed loses what it has counted since.',
        querystring: UsageParameters,
        response: { 200: UsageReport, default: Problem },
      },
    },
    (request) => readUsage(store, request.query, Date.now(), usage.waiting),
  );
}
