import type { JsonObject } from '@uproar/core';
import { AuditEntry, Problem } from '@uproar/protocol';
import type { FastifyInstance, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { formatIdentity } from '../../identity/identity.js';
import type { Context } from '../../requests/context.js';

/** The audit log. */
export function serveAudit(app: FastifyInstance, { identities }: Pick<Context, 'identities'>): void {
  app.withTypeProvider<ZodTypeProvider>().get(
    '/v1/audit',
    {
      config: { admin: true },
      schema: {
        operationId: 'listAuditEntries',
        tags: ['access'],
        summary: 'Read the audit log, newest first',
        description:
          'Sign-ins, changes of keys, accounts and the policy, and refusals. The newest 100,000 entries are kept.',
        querystring: z.strictObject({
          before: z.coerce
            .number()
            .int()
            .positive()
            .default(Number.MAX_SAFE_INTEGER)
            .describe('Entries before this number.'),
          event: z.string().max(50).optional().describe('Only events of this kind.'),
          limit: z.coerce.number().int().min(1).max(1000).default(100),
        }),
        response: { 200: z.object({ entries: z.array(AuditEntry) }), default: Problem },
      },
    },
    async (request) => {
      const { before, limit, event } = request.query;
      return { entries: await identities.audit.list(before, limit, event) };
    },
  );
}

/** Records an administrative request in the audit log. */
export function auditAdministration(
  { identities }: Pick<Context, 'identities'>,
  request: FastifyRequest,
  event: string,
  detail: JsonObject,
  identity = formatIdentity(request.identity.author),
): void {
  identities.audit.add({ event, identity, address: request.ip, request: request.id, detail });
}
