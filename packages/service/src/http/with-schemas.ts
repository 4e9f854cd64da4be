import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';

/** Routes whose requests are typed by their Zod declarations. */
export function withSchemas(app: FastifyInstance) {
  return app.withTypeProvider<ZodTypeProvider>();
}

export type Routes = ReturnType<typeof withSchemas>;
