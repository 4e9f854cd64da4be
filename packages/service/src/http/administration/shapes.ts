import { ShapeFinder, type Query, type Shape } from '@uproar/core';
import { CollectionName, Problem, ShapeReport } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { costLimits, readableAccess } from '../../requests/identity-scope.js';
import type { ReadLimits, Store } from '../../store/index.js';
import type { Context } from '../../requests/context.js';
import { prepareWireQuery } from '../../reading/prepare-query.js';

/** What shapes the documents of a collection really have. */
export function serveShapes(
  app: FastifyInstance,
  context: Pick<Context, 'store' | 'identities' | 'accessLimits' | 'budgets'>,
): void {
  const { store } = context;
  app.withTypeProvider<ZodTypeProvider>().get(
    '/v1/shapes/:collection',
    {
      schema: {
        operationId: 'getShapes',
        tags: ['data'],
        summary: 'Report the shapes of the documents of a collection',
        description:
          'The fields, how many documents have each, types, ranges and examples, and how recent documents differ from older ones. ' +
          'Documents that the caller may not read are left out.',
        params: z.strictObject({ collection: CollectionName }),
        querystring: z.strictObject({
          where: z.string().optional().describe('Only documents that match this condition.'),
          sample: z.coerce
            .number()
            .int()
            .min(1)
            .max(1_000_000)
            .default(50_000)
            .describe('About how many documents to read, spread over the collection.'),
        }),
        response: { 200: ShapeReport, default: Problem },
      },
    },
    async (request) => {
      const { collection } = request.params;
      const { where, sample } = request.query;
      const access = readableAccess(context, request.identity, collection);
      const query = prepareWireQuery({ from: collection, where, limit: 'none' }, true, () => access);
      let { seq } = store.log;
      const shape = await findShape(
        store,
        query,
        sample,
        costLimits(context, request.identity, request.holder),
        (at) => (seq = at),
      );
      return { ...shape, seq };
    },
  );
}

/** Reads about this many documents of a query, spread over its collection, and reports their shapes. */
export async function findShape(
  store: Store,
  query: Query,
  sample: number,
  limits: ReadLimits = {},
  onSeq?: (seq: number) => void,
): Promise<Shape> {
  // The step must not reveal how many documents there are that do not belong to the query.
  const total = query.where
    ? await countMatching(store, query, limits)
    : (store.collections.get(query.from)?.documents ?? 0);
  const step = Math.max(1, Math.floor(total / sample));
  const finder = new ShapeFinder();
  let met = 0;
  for await (const { document } of store.reader.stream(query, limits, onSeq))
    if (met++ % step === 0) finder.add(query.show(document));
  return finder.find();
}

async function countMatching(store: Store, query: Query, limits: ReadLimits): Promise<number> {
  let count = 0;
  const documents = store.reader.stream(query, limits);
  while (!(await documents.next()).done) count++;
  return count;
}
