import { Problem, problemError } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { mayReadMetrics } from '../../identity/identity.js';
import type { Context } from '../../requests/context.js';
import { describeLive } from '../description/asyncapi.js';
import { describeService } from '../description/openapi.js';

const NotReady = z.object({
  status: z.literal('not-ready'),
  reasons: z.array(z.enum(['stopping', 'storage-failed', 'overloaded', 'halted'])),
});

/** Health checks, metrics and descriptions for operators. */
export function serveOperations(
  app: FastifyInstance,
  context: Pick<Context, 'store' | 'cluster' | 'identities' | 'recorder' | 'draining'>,
  openMetrics: boolean,
): void {
  const { identities, recorder } = context;
  const routes = app.withTypeProvider<ZodTypeProvider>();
  // Everybody may ask for them, so they are made once.
  let described: ReturnType<typeof describeService> | undefined;
  let describedLive: ReturnType<typeof describeLive> | undefined;
  // Clients that keep connections alive get another server for later requests.
  app.addHook('onRequest', async (_request, reply) => {
    if (context.draining) reply.header('connection', 'close');
  });
  routes.get(
    '/healthz',
    {
      config: { open: true },
      schema: {
        operationId: 'checkHealth',
        tags: ['operations'],
        summary: 'Check whether the service is alive',
        security: [],
        response: {
          200: z.object({
            status: z.literal('ok'),
            keyless: z.boolean().describe('Whether the store accepts callers without a key or token.'),
          }),
        },
      },
    },
    (_request, reply) => {
      // A page whose origin is refused can thus see that something answers, though not what.
      reply.header('cross-origin-resource-policy', 'cross-origin');
      return { status: 'ok' as const, keyless: identities.policy.anonymous || identities.openUntilMs() !== undefined };
    },
  );
  routes.get(
    '/readyz',
    {
      config: { open: true },
      schema: {
        operationId: 'checkReadiness',
        tags: ['operations'],
        summary: 'Check whether the service accepts requests',
        description:
          'It does not while it is stopping, cannot write to its disk, is overloaded, or does not take part in its cluster.',
        security: [],
        response: { 200: z.object({ status: z.literal('ready') }), 503: NotReady },
      },
    },
    async (_request, reply) => {
      const reasons = await findReasons(context);
      if (reasons.length === 0) return { status: 'ready' as const };
      reply.header('retry-after', '1');
      void reply.code(503);
      return { status: 'not-ready' as const, reasons };
    },
  );
  routes.get(
    '/metrics',
    {
      config: { open: openMetrics, described: { responseTypes: ['text/plain'] } },
      schema: {
        operationId: 'getMetrics',
        tags: ['operations'],
        summary: 'Read the metrics in the Prometheus text format',
        description: 'Needs a key that is not restricted to collections, unless the service runs with --open-metrics.',
        response: { 200: z.string(), default: Problem },
      },
    },
    async (request, reply) => {
      if (!openMetrics && !mayReadMetrics(request.identity)) {
        throw problemError(
          'not-allowed',
          'The metrics cover all collections. Use a key that is not restricted to collections.',
        );
      }
      const { text, type } = await recorder.metrics.write();
      return reply.type(type).serializer(String).send(text);
    },
  );
  routes.get(
    '/openapi.json',
    {
      config: { open: true },
      schema: {
        operationId: 'getOpenApi',
        tags: ['operations'],
        summary: 'This description',
        security: [],
        response: { 200: z.looseObject({ openapi: z.string() }), default: Problem },
      },
    },
    () => (described ??= describeService(app)),
  );
  routes.get(
    '/asyncapi.json',
    {
      config: { open: true },
      schema: {
        operationId: 'getAsyncApi',
        tags: ['operations'],
        summary: 'A description of the event streams and the WebSocket',
        security: [],
        response: { 200: z.looseObject({ asyncapi: z.string() }), default: Problem },
      },
    },
    () => (describedLive ??= describeLive()),
  );
}

async function findReasons({
  draining,
  store,
  cluster,
}: Pick<Context, 'store' | 'cluster' | 'draining'>): Promise<z.infer<typeof NotReady>['reasons']> {
  return [
    ...(draining ? (['stopping'] as const) : []),
    ...(store.health.failure && !(await store.recover()) ? (['storage-failed'] as const) : []),
    ...(cluster?.halted ? (['halted'] as const) : []),
    ...(store.log.crowded ? (['overloaded'] as const) : []),
  ];
}
