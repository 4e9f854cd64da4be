import { Erasure, ErasureForm, ErasurePreview, Problem } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import { z } from 'zod';
import type { Context } from '../../requests/context.js';
import { auditAdministration } from '../access/audit.js';
import { withSchemas } from '../with-schemas.js';

const tags = ['administration'];
const config = { admin: true };

/** Removing documents with their past. */
export function serveErasures(app: FastifyInstance, context: Pick<Context, 'erasures' | 'identities'>): void {
  const { erasures } = context;
  const routes = withSchemas(app);
  routes.post(
    '/v1/erasures',
    {
      config,
      schema: {
        operationId: 'eraseDocuments',
        tags,
        summary: 'Erase documents with their past',
        description:
          'Deletes documents and empties what the journal, idempotency records and contents of files hold of them. It cannot be undone. ' +
          'Returns when nothing of them can be read any more; then each node rewrites its files. With `dryRun`, only counts.',
        body: ErasureForm,
        response: { 200: ErasurePreview, 201: Erasure, default: Problem },
      },
    },
    async (request, reply) => {
      if (request.body.dryRun) return erasures.preview(request.body);
      const erasure = await erasures.erase(request.body, request.identity.author);
      const { id, collection, documents } = erasure;
      auditAdministration(context, request, 'documents-erased', { erasure: id, collection, documents });
      return reply.code(201).header('location', `/v1/erasures/${id}`).send(erasure);
    },
  );
  routes.get(
    '/v1/erasures',
    {
      config,
      schema: {
        operationId: 'listErasures',
        tags,
        summary: 'List erasures, and the backups that still hold what was erased',
        querystring: z.strictObject({ limit: z.coerce.number().int().min(1).max(1000).default(100) }),
        response: { 200: z.object({ erasures: z.array(Erasure) }), default: Problem },
      },
    },
    (request) => ({ erasures: erasures.list(request.query.limit) }),
  );
  routes.get(
    '/v1/erasures/:id',
    {
      config,
      schema: {
        operationId: 'getErasure',
        tags,
        summary: 'Get the state of an erasure',
        params: z.object({ id: z.string().max(64) }),
        response: { 200: Erasure, default: Problem },
      },
    },
    (request) => erasures.get(request.params.id),
  );
}
