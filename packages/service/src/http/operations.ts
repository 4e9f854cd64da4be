import { Problem } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';

/** What those who run the service ask for: is it alive, and what does it offer. */
export function serveOperations(app: FastifyInstance): void {
  const routes = app.withTypeProvider<ZodTypeProvider>();
  routes.get(
    '/healthz',
    {
      config: { open: true },
      schema: {
        tags: ['operations'],
        summary: 'Tell whether the service is alive',
        security: [],
        response: { 200: z.object({ status: z.literal('ok') }) },
      },
    },
    () => ({ status: 'ok' as const }),
  );
  routes.get(
    '/openapi.json',
    {
      schema: {
        tags: ['operations'],
        summary: 'This description',
        response: { 200: z.looseObject({ openapi: z.string() }), default: Problem },
      },
    },
    () => app.swagger() as { openapi: string },
  );
}
