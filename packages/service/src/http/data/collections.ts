import { CollectionListing, Problem } from '@uproar/protocol';
import accepts from 'accepts';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { listCollections } from '../../reading/list-collections.js';
import { readScopeOf } from '../../requests/identity-scope.js';
import { answerWithWatch, type StreamContext } from '../../event-stream/event-stream.js';

/** The list of collections. */
export function serveCollections(app: FastifyInstance, context: StreamContext): void {
  app.withTypeProvider<ZodTypeProvider>().get(
    '/v1/collections',
    {
      config: {
        described: { requestHeaders: ['Last-Event-ID'], responseTypes: ['application/json', 'text/event-stream'] },
      },
      schema: {
        operationId: 'listCollections',
        tags: ['data'],
        summary: 'List or watch the collections',
        description:
          'Each collection has the form of a document: `id` is its name, `version` the seq of its last change, `data` its counts. ' +
          'With `Accept: text/event-stream`, the response is a watch that is updated at most four times per second.',
        response: { 200: CollectionListing, default: Problem },
      },
    },
    (request, reply) => {
      if (accepts(request.raw).type(['application/json', 'text/event-stream']) === 'text/event-stream') {
        return answerWithWatch(context, request, reply, { collections: true });
      }
      const { store } = context;
      return {
        seq: store.log.seq,
        documents: listCollections(store, readScopeOf(context, request.identity, request.holder)),
        more: false,
      };
    },
  );
}
