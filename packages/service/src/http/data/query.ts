import type { StreamContext } from '../../event-stream/event-stream.js';
import { Listing, Problem, WireQuery } from '@uproar/protocol';
import type { FastifyInstance, FastifyReply } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import type { Context } from '../../requests/context.js';
import { explainQuery, Explanation } from '../../requests/explain.js';
import { QUERY_FORMATS, answerQuery } from './send-query.js';

/** Queries in a request body, and their explanation. */
export function serveQuery(app: FastifyInstance, context: StreamContext & Pick<Context, 'schemas' | 'bytes'>): void {
  const routes = app.withTypeProvider<ZodTypeProvider>();
  routes.post(
    '/v1/query',
    {
      config: { described: { responseTypes: QUERY_FORMATS } },
      schema: {
        operationId: 'query',
        tags: ['data'],
        summary: 'Query or watch, with the query in the body',
        description:
          'For long conditions, or conditions in CQL2 JSON. Returns the same formats as a query in the address.',
        body: WireQuery,
        response: { 200: Listing, default: Problem },
      },
    },
    async (request, reply) => answerQuery(context, request, reply as FastifyReply, request.body),
  );
  routes.post(
    '/v1/explain',
    {
      schema: {
        operationId: 'explainQuery',
        tags: ['data'],
        summary: 'Explain the plan and cost of a query',
        description:
          'Runs the query and returns its plan (index scan or full scan), the number of documents read and returned, how watches of it are matched, and advice.',
        body: WireQuery,
        response: { 200: Explanation, default: Problem },
      },
    },
    async (request) => explainQuery(context, request.body, request.identity, request.holder),
  );
}
