import { CollectionName, Problem, problemError } from '@uproar/protocol';
import type { FastifyInstance, FastifyReply } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { readIndexFields } from '../../reading/read-index-fields.js';
import type { IndexInfo } from '../../store/index.js';
import type { Context } from '../../requests/context.js';

const Index = z
  .object({
    id: z.int().describe('The id of the index.'),
    collection: CollectionName,
    fields: z.string().describe('The indexed fields: `status,-altitude`.'),
    ready: z.boolean().describe('False while it is being filled.'),
  })
  .meta({ id: 'Index' });

/** Secondary indexes on fields. */
export function serveIndexes(app: FastifyInstance, { store }: Pick<Context, 'store'>): void {
  const routes = app.withTypeProvider<ZodTypeProvider>();
  const tags = ['administration'];
  const describe = ({ number, collection, fields, ready }: IndexInfo) => ({
    id: number,
    collection: store.collections.nameOf(collection),
    fields,
    ready,
  });

  routes.get(
    '/v1/indexes',
    {
      config: { admin: true },
      schema: {
        operationId: 'listIndexes',
        tags,
        summary: 'List the indexes',
        response: { 200: z.object({ indexes: z.array(Index) }), default: Problem },
      },
    },
    () => ({ indexes: store.indexes.list().map(describe) }),
  );
  routes.post(
    '/v1/indexes',
    {
      config: { admin: true },
      schema: {
        operationId: 'createIndex',
        tags,
        summary: 'Create an index',
        description: 'Returns when the index is filled. If the index exists already, it is returned.',
        body: z.strictObject({ collection: CollectionName, fields: z.string().min(1).max(1000) }),
        response: { 201: Index, default: Problem },
      },
    },
    async (request, reply) => {
      const { collection, fields } = request.body;
      const index = await store.indexes.create(collection, readIndexFields(fields), Date.now());
      return reply.code(201).send(describe(index));
    },
  );
  routes.delete(
    '/v1/indexes/:id',
    {
      config: { admin: true },
      schema: {
        operationId: 'deleteIndex',
        tags,
        summary: 'Remove an index',
        params: z.object({ id: z.coerce.number().int() }),
        response: { 204: z.null().describe('It is removed.'), default: Problem },
      },
    },
    async (request, reply) => {
      if (!(await store.indexes.remove(request.params.id))) {
        throw problemError('no-such-index', `The index ${request.params.id} does not exist.`);
      }
      return (reply as FastifyReply).code(204).send();
    },
  );
}
