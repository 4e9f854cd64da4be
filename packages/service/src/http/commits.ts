import { Problem, Receipt, WireCommit, problemError } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import type { Context } from './context.js';
import { idempotencyKey, senderOf } from './sender.js';

/** Atomic groups of writes. */
export function serveCommits(app: FastifyInstance, context: Context): void {
  app.withTypeProvider<ZodTypeProvider>().post(
    '/v1/commits',
    {
      bodyLimit: context.commitLimits.sizeBytes,
      config: { described: { heeds: ['Idempotency-Key'] } },
      schema: {
        tags: ['data'],
        summary: 'Write several documents, all or none',
        description:
          'When a condition does not hold, nothing is written and the answer tells which. An `id` (or an `Idempotency-Key`) makes a retry harmless.',
        body: WireCommit,
        response: { 200: Receipt, default: Problem },
      },
    },
    async (request) => {
      const commit = request.body;
      const key = idempotencyKey(request);
      if (key !== undefined && commit.id !== undefined && key !== commit.id) {
        throw problemError('bad-request', 'The id of the commit and Idempotency-Key differ; send one of them.', {
          pointer: '/id',
        });
      }
      return context.committer.commit(key === undefined ? commit : { ...commit, id: key }, senderOf(request));
    },
  );
}
