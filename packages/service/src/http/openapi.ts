import swagger from '@fastify/swagger';
import type { FastifyInstance } from 'fastify';
import { jsonSchemaTransform, jsonSchemaTransformObject } from 'fastify-type-provider-zod';
import { VERSION } from '../version.js';

/** Describes the routes as OpenAPI 3.1, from the same declarations that check their requests. */
export async function describeRoutes(app: FastifyInstance): Promise<void> {
  await app.register(swagger, {
    openapi: {
      openapi: '3.1.0',
      info: {
        title: 'Uproar',
        version: VERSION,
        description: 'A live document store: every collection and document can be read once or watched.',
        license: { name: 'Apache-2.0', identifier: 'Apache-2.0' },
      },
      components: { securitySchemes: { key: { type: 'http', scheme: 'bearer' } } },
      security: [{ key: [] }],
      tags: [
        { name: 'data', description: 'Collections and their documents' },
        { name: 'access', description: 'Keys, the policy, and the audit log' },
        { name: 'accounts', description: 'Accounts of people and devices, and their sessions' },
        { name: 'administration', description: 'Indexes and backups' },
        { name: 'operations', description: 'Running the service' },
      ],
    },
    transform: jsonSchemaTransform,
    transformObject: jsonSchemaTransformObject,
  });
}
