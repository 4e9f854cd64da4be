import { prepareQuery, proposeSchema, type JsonObject } from '@uproar/core';
import {
  CollectionName,
  CollectionSchema,
  NewSchema,
  Problem,
  problemError,
  ProblemError,
  SchemaReport,
} from '@uproar/protocol';
import type { FastifyInstance, FastifyReply } from 'fastify';
import { z } from 'zod';
import { compileSchema } from '../../state/compile-schema.js';
import { checkBeforeEnforcing, checkDocuments } from '../../reading/check-documents.js';
import type { Context } from '../../requests/context.js';
import { findShape } from './shapes.js';
import { withSchemas, type Routes } from '../with-schemas.js';

/** The parts of the service that these routes use. */
type SchemasContext = Pick<Context, 'store' | 'schemas'>;

const config = { admin: true };
const tags = ['administration'];
const params = z.strictObject({ collection: CollectionName });

const SAMPLE = 50_000;

/** The structure that documents of a collection are to have. */
export function serveSchemas(app: FastifyInstance, context: SchemasContext): void {
  const routes = withSchemas(app);
  serveListSchemas(routes, context);
  serveReadSchema(routes, context);
  serveProposeSchema(routes, context);
  serveCheckSchema(routes, context);
  serveSetSchema(routes, context);
  serveRemoveSchema(routes, context);
}

function serveListSchemas(routes: Routes, context: SchemasContext): void {
  const { schemas } = context;
  routes.get(
    '/v1/schemas',
    {
      config,
      schema: {
        operationId: 'listSchemas',
        tags,
        summary: 'List the schemas',
        response: { 200: z.object({ schemas: z.array(CollectionSchema) }), default: Problem },
      },
    },
    () => ({ schemas: schemas.list() }),
  );
}

function serveReadSchema(routes: Routes, context: SchemasContext): void {
  const { schemas } = context;
  routes.get(
    '/v1/schemas/:collection',
    {
      config,
      schema: {
        operationId: 'getSchema',
        tags,
        summary: 'Read the schema of a collection',
        params,
        querystring: z.strictObject({ version: z.coerce.number().int().min(1).optional() }),
        response: { 200: CollectionSchema, default: Problem },
      },
    },
    (request) => {
      const { collection } = request.params;
      const { version } = request.query;
      const found = schemas.get(collection, version);
      if (found) return found;
      if (version !== undefined && schemas.get(collection)) {
        throw problemError('no-such-version', `The schema of ${collection} has no version ${version}.`);
      }
      throw noSchema(collection);
    },
  );
}

function serveProposeSchema(routes: Routes, context: SchemasContext): void {
  const { store } = context;
  routes.get(
    '/v1/schemas/:collection/proposal',
    {
      config,
      schema: {
        operationId: 'proposeSchema',
        tags,
        summary: 'Propose a schema that the documents of a collection satisfy',
        params,
        response: { 200: z.record(z.string(), z.unknown()), default: Problem },
      },
    },
    async (request) => {
      const query = prepareQuery({ from: request.params.collection, limit: 'none' });
      return proposeSchema(await findShape(store, query, SAMPLE));
    },
  );
}

function serveCheckSchema(routes: Routes, context: SchemasContext): void {
  const { store, schemas } = context;
  routes.post(
    '/v1/schemas/:collection/check',
    {
      config,
      schema: {
        operationId: 'checkSchema',
        tags,
        summary: 'Check all documents of a collection against a schema',
        description: 'Checks against the schema in the body, or against the present one. Nothing is changed.',
        params,
        body: z.strictObject({ schema: z.record(z.string(), z.unknown()).optional() }),
        response: { 200: SchemaReport, default: Problem },
      },
    },
    async (request) => {
      const { collection } = request.params;
      const schema = request.body.schema ?? schemas.get(collection)?.schema;
      if (!schema) throw noSchema(collection);
      return checkDocuments(store, collection, compileSchema(schema as JsonObject));
    },
  );
}

function serveSetSchema(routes: Routes, context: SchemasContext): void {
  const { store, schemas } = context;
  routes.put(
    '/v1/schemas/:collection',
    {
      config,
      schema: {
        operationId: 'setSchema',
        tags,
        summary: 'Set the schema of a collection',
        description:
          'Before a schema is enforced, all documents are checked. If there are violations, it is refused, unless `anyway` is set.',
        params,
        body: NewSchema,
        response: { 200: CollectionSchema, default: Problem },
      },
    },
    async (request) => {
      const { collection } = request.params;
      const { mode, anyway, note } = request.body;
      const schema = (request.body.schema ?? schemas.get(collection)?.schema) as JsonObject | undefined;
      if (!schema) throw noSchema(collection);
      const validate = compileSchema(schema);
      if (mode === 'enforce' && !anyway) {
        const { problem } = await checkBeforeEnforcing(store, collection, validate);
        if (problem) throw new ProblemError(problem);
      }
      return schemas.set(collection, mode, schema, request.identity.author, note);
    },
  );
}

function serveRemoveSchema(routes: Routes, context: SchemasContext): void {
  const { schemas } = context;
  routes.delete(
    '/v1/schemas/:collection',
    {
      config,
      schema: {
        operationId: 'deleteSchema',
        tags,
        summary: 'Remove the schema of a collection',
        params,
        response: { 204: z.null().describe('It is removed.'), default: Problem },
      },
    },
    async (request, reply) => {
      if (!(await schemas.remove(request.params.collection))) throw noSchema(request.params.collection);
      return (reply as FastifyReply).code(204).send();
    },
  );
}

function noSchema(collection: string): Error {
  return problemError(
    'no-such-schema',
    `${collection} has no schema. To get a proposal: uproar schema propose ${collection}`,
  );
}
