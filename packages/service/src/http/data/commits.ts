import type { Readable } from 'node:stream';
import { Problem, Receipt, WireCommit, problemError } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { ENVELOPE_BYTES } from '../../requests/parse-body.js';
import type { Context } from '../../requests/context.js';
import { idempotencyKey, senderOf } from './sender.js';

/** Atomic groups of writes. */
export function serveCommits(app: FastifyInstance, context: Pick<Context, 'committer' | 'commitLimits'>): void {
  const { sizeBytes } = context.commitLimits;
  app.withTypeProvider<ZodTypeProvider>().post(
    '/v1/commits',
    {
      bodyLimit: sizeBytes + ENVELOPE_BYTES,
      // A body that is too large is read and discarded, up to twice the limit, so that the client can read the answer.
      preParsing: async (request, _reply, payload) => {
        const length = Number(request.headers['content-length'] ?? 0);
        if (length <= sizeBytes + ENVELOPE_BYTES) return payload;
        if (length <= 2 * sizeBytes + ENVELOPE_BYTES) await drain(payload as Readable);
        throw problemError('too-large', `A commit has at most ${sizeBytes} bytes here, not ${length}. Split it.`);
      },
      config: { described: { requestHeaders: ['Idempotency-Key'] } },
      schema: {
        operationId: 'commit',
        tags: ['data'],
        summary: 'Write several documents, all or none',
        description:
          'If a condition fails, nothing is written and the response names the condition. An `id` (or an `Idempotency-Key`) makes retries safe.',
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

/** Reads a stream to its end, and keeps nothing of it. */
function drain(stream: Readable): Promise<void> {
  return new Promise((resolve) => {
    stream
      .once('end', resolve)
      .once('error', () => resolve())
      .once('close', resolve);
    stream.resume();
  });
}
