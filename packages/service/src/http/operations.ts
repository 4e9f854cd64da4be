import { Problem } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import type { Context } from './context.js';

/** What those who run the service ask for: is it alive, and what does it offer. */
export function serveOperations(app: FastifyInstance, { identities }: Context): void {
  const routes = app.withTypeProvider<ZodTypeProvider>();
  routes.get(
    '/healthz',
    {
      config: { open: true },
      schema: {
        tags: ['operations'],
        summary: 'Tell whether the service is alive',
        security: [],
        response: {
          200: z.object({
            status: z.literal('ok'),
            keyless: z.boolean().describe('Whether one may take part without a key or a token.'),
          }),
        },
      },
    },
    () => ({ status: 'ok' as const, keyless: identities.policy.anonymous || identities.openUntilMs() !== undefined }),
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
