import swagger from '@fastify/swagger';
import type { FastifyInstance } from 'fastify';
import { jsonSchemaTransform, jsonSchemaTransformObject } from 'fastify-type-provider-zod';
import { VERSION } from '../../version.js';
import {
  describeOperation,
  TEXT_RESPONSES,
  TEXT_SCHEMAS,
  type Described,
  type Operation,
} from './describe-operation.js';

/** Where the description of a route waits until all of them are put together. */
const DESCRIBED = 'x-described';

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
      servers: [{ url: '/', description: 'The store that this description comes from' }],
      components: { securitySchemes: { key: { type: 'http', scheme: 'bearer' } } },
      security: [{ key: [] }],
      tags: [
        { name: 'data', description: 'Collections and their documents' },
        { name: 'access', description: 'Keys, the policy, and the audit log' },
        { name: 'accounts', description: 'Accounts of people and devices, and their sessions' },
        { name: 'files', description: 'Contents of files, whose descriptions are documents' },
        { name: 'administration', description: 'Indexes and backups' },
        { name: 'operations', description: 'Running the service' },
      ],
    },
    transform: (route) => {
      const { schema, url } = jsonSchemaTransform(route);
      return { schema: { ...schema, [DESCRIBED]: route.route.config?.described }, url };
    },
    transformObject: jsonSchemaTransformObject,
  });
}

interface Description {
  paths: Record<string, Record<string, Operation & { operationId?: string; [DESCRIBED]?: Described }>>;
  components?: { schemas?: Record<string, Record<string, unknown>>; responses?: object };
}

/** The description without unused components and without what only matters for separate schema files. */
export function describeService(app: FastifyInstance): { openapi: string } {
  const description = structuredClone(app.swagger()) as unknown as Description & { openapi: string };
  const schemas: Record<string, Record<string, unknown>> = { ...description.components?.schemas, ...TEXT_SCHEMAS };
  description.components = { ...description.components, schemas, responses: TEXT_RESPONSES };
  for (const schema of Object.values(schemas)) {
    delete schema.$id;
    delete schema.$schema;
  }
  for (const operations of Object.values(description.paths)) {
    for (const [method, { [DESCRIBED]: described, ...operation }] of Object.entries(operations)) {
      describeOperation(operation, described);
      // One declaration for GET and HEAD.
      const name = operation.operationId!;
      operations[method] = method === 'head' ? { ...operation, operationId: name.replace('get', 'head') } : operation;
    }
  }
  const used = new Set<string>();
  const follow = (part: unknown) => {
    for (const [, name] of JSON.stringify(part).matchAll(/"#\/components\/schemas\/([^"/]+)"/g)) {
      if (used.has(name!)) continue;
      used.add(name!);
      follow(schemas[name!] ?? null);
    }
  };
  follow(description.paths);
  follow(TEXT_RESPONSES);
  for (const name of Object.keys(schemas)) if (!used.has(name)) delete schemas[name];
  return description;
}
