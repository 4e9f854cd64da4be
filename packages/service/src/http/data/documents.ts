import { readEnd, sees, withoutFields, type Condition, type Document, type JsonValue, type Write } from '@uproar/core';
import {
  CollectionName,
  Data,
  DocumentId,
  Expires,
  Listing,
  PatchOperations,
  Problem,
  Seq,
  Ttl,
  WireAdjustments,
  WireDocument,
  problemError,
} from '@uproar/protocol';
import accepts from 'accepts';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { z } from 'zod';
import { formatIdentity } from '../../identity/identity.js';
import type { Written } from '../../commit/committer.js';
import { seenDocument } from '../../reading/visible-document.js';
import { readableAccess } from '../../requests/identity-scope.js';
import { queryFromParameters, QueryParameters } from '../../reading/prepare-query.js';
import { QUERY_FORMATS, answerQuery, describeAbsent } from './send-query.js';
import { PATCH_TYPES } from '../body-parser.js';
import type { Context } from '../../requests/context.js';
import { compileCheck } from '../errors.js';
import { describeIssue } from '../../requests/problems.js';
import { readDocumentAt } from '../../reading/read-document.js';
import { idempotencyKey, senderOf } from './sender.js';
import { answerWithWatch, type StreamContext } from '../../event-stream/event-stream.js';
import { conditionFrom, entityTag, evaluateReadConditions, rejectFailedPrecondition } from './preconditions.js';
import { withSchemas, type Routes } from '../with-schemas.js';
import { findStored } from '../../store/index.js';

/** The parts of the service that these routes use. */
type DocumentsContext = StreamContext & Pick<Context, 'committer' | 'bytes' | 'usage'>;

const tags = ['data'];

const CollectionParams = z.object({ collection: CollectionName });
const DocumentParams = z.object({ collection: CollectionName, id: DocumentId });
const DocumentQuery = z.strictObject(
  {
    at: z.coerce.number({ error: '"at" is a seq.' }).pipe(Seq).optional().describe('Return the state at this seq.'),
  },
  {
    error: (issue) =>
      issue.code === 'unrecognized_keys'
        ? `There is no parameter ${String(issue.keys)}. The parameters are: at.`
        : undefined,
  },
);
/** When a document that is written ends; as a part of the address, because the body is its data. */
const EndParameters = z
  .strictObject(
    {
      expires: z
        .string()
        .refine((text) => text === 'never' || Expires.safeParse(text).success, {
          error: '"expires" is a time such as 2026-06-07T08:00:00Z, or never.',
        })
        .optional()
        .describe('When the store deletes the document (RFC 3339); `never`: it does not.'),
      ttl: z.coerce.number({ error: '"ttl" is a number of seconds.' }).pipe(Ttl).optional(),
    },
    {
      error: (issue) =>
        issue.code === 'unrecognized_keys'
          ? `There is no parameter ${String(issue.keys)}. The parameters are: expires, ttl.`
          : undefined,
    },
  )
  .refine(({ expires, ttl }) => expires === undefined || ttl === undefined, {
    error: 'A write has "expires" or "ttl", not both.',
    path: ['ttl'],
  });
const endFrom = ({ expires, ttl }: z.infer<typeof EndParameters>) =>
  readEnd({ expires: expires === 'never' ? null : expires, ttl });

const STREAM_NOTE =
  'With `Accept: text/event-stream`, the response is a watch: first `result`, then `change`, sometimes `reset`, and `end`.';

/** The response to a caller who may write the document but not read it. */
const UNSEEN = z.null().describe('The write is done; the caller may not read the result.');

/** The documents of a collection. */
export function serveDocuments(app: FastifyInstance, context: DocumentsContext): void {
  const routes = withSchemas(app);
  serveQueryDocuments(routes, context);
  serveCreateDocument(routes, context);
  serveReadDocument(routes, context);
  serveReplaceDocument(routes, context);
  servePatchDocument(routes, context);
  serveDeleteDocument(routes, context);
}

function serveQueryDocuments(routes: Routes, context: DocumentsContext): void {
  routes.get(
    '/v1/data/:collection',
    {
      config: { described: { requestHeaders: ['Last-Event-ID'], responseTypes: QUERY_FORMATS } },
      schema: {
        operationId: 'queryCollection',
        tags,
        summary: 'Query or watch a collection',
        description: `Also as NDJSON (\`application/x-ndjson\`) and CSV (\`text/csv\`). ${STREAM_NOTE}`,
        params: CollectionParams,
        querystring: QueryParameters,
        response: { 200: Listing, default: Problem },
      },
    },
    async (request, reply) => {
      const form = queryFromParameters(request.params.collection, request.query);
      return answerQuery(context, request, reply as FastifyReply, form);
    },
  );
}

function serveCreateDocument(routes: Routes, context: DocumentsContext): void {
  const { store, committer } = context;
  routes.post(
    '/v1/data/:collection',
    {
      bodyLimit: store.limits.sizeBytes * 2,
      config: { described: { requestHeaders: ['Idempotency-Key'], responseHeaders: ['ETag', 'Location'] } },
      schema: {
        operationId: 'createDocument',
        tags,
        summary: 'Create a document with a generated id',
        params: CollectionParams,
        querystring: EndParameters,
        body: Data,
        response: { 201: WireDocument, default: Problem },
      },
    },
    async (request, reply) => {
      const { collection } = request.params;
      const data = committer.checkData(request.body);
      const write: Write = { kind: 'create', collection, id: committer.newId(), data, ...endFrom(request.query) };
      return sendWritten(context, request, reply, write, idempotencyKey(request));
    },
  );
}

function serveReadDocument(routes: Routes, context: DocumentsContext): void {
  const { store } = context;
  routes.get(
    '/v1/data/:collection/:id',
    {
      config: {
        described: {
          requestHeaders: ['If-Match', 'If-None-Match', 'Last-Event-ID'],
          responseHeaders: ['ETag'],
          responseTypes: ['application/json', 'text/event-stream'],
        },
      },
      schema: {
        operationId: 'getDocument',
        tags,
        summary: 'Read or watch one document',
        description: `A watch may start before the document exists. ${STREAM_NOTE}`,
        params: DocumentParams,
        querystring: DocumentQuery,
        response: { 200: WireDocument, 304: z.null().describe('The version is unchanged.'), default: Problem },
      },
    },
    (request, reply) => {
      const { collection, id } = request.params;
      const { at } = request.query;
      const access = readableAccess(context, request.identity, collection);
      if (at !== undefined) sendDocumentAt(request, reply, readDocumentAt(store, access, collection, id, at));
      else if (wantsStream(request)) answerWithWatch(context, request, reply, { doc: `${collection}/${id}` });
      else sendDocument(context, request, reply, collection, id);
    },
  );
}

function serveReplaceDocument(routes: Routes, context: DocumentsContext): void {
  const { store, committer } = context;
  routes.put(
    '/v1/data/:collection/:id',
    {
      bodyLimit: store.limits.sizeBytes * 2,
      config: { described: { requestHeaders: ['If-Match', 'If-None-Match'], responseHeaders: ['ETag', 'Location'] } },
      schema: {
        operationId: 'putDocument',
        tags,
        summary: 'Create or replace a document',
        description: 'Without `expires` or `ttl`, the document does not end, also if the replaced one did.',
        params: DocumentParams,
        querystring: EndParameters,
        body: Data,
        response: { 200: WireDocument, 201: WireDocument, 204: UNSEEN, default: Problem },
      },
    },
    async (request, reply) => {
      const { collection, id } = request.params;
      const data = committer.checkData(request.body);
      return sendWritten(context, request, reply, { kind: 'put', collection, id, data, ...endFrom(request.query) });
    },
  );
}

function servePatchDocument(routes: Routes, context: DocumentsContext): void {
  const { store } = context;
  routes.patch(
    '/v1/data/:collection/:id',
    {
      bodyLimit: store.limits.sizeBytes * 2,
      config: {
        described: {
          requestHeaders: ['If-Match', 'If-None-Match', 'Idempotency-Key'],
          responseHeaders: ['ETag'],
          requestTypes: {
            'application/merge-patch+json': 0,
            'application/json-patch+json': 1,
            'application/vnd.uproar.adjust+json': 2,
          },
        },
      },
      schema: {
        operationId: 'patchDocument',
        tags,
        summary: 'Change fields of a document',
        description:
          'The media type decides: a JSON Merge Patch (RFC 7396), a JSON Patch (RFC 6902), or `application/vnd.uproar.adjust+json`, ' +
          'which adjusts fields by pointer.',
        consumes: Object.keys(PATCH_TYPES),
        params: DocumentParams,
        querystring: EndParameters,
        body: z.union([Data, PatchOperations, WireAdjustments]),
        response: { 200: WireDocument, 204: UNSEEN, default: Problem },
      },
      // Which form the body must have depends on its media type, so the handler checks it.
      validatorCompiler: (part) =>
        part.httpPart === 'body' ? (value: unknown) => ({ value }) : compileCheck(part as never),
    },
    async (request, reply) => {
      const type = request.headers['content-type']?.split(';')[0]?.trim().toLowerCase();
      const types = Object.keys(PATCH_TYPES).join(', ');
      reply.header('accept-patch', types);
      if (type === undefined || !Object.hasOwn(PATCH_TYPES, type)) {
        throw problemError('unsupported-type', `${type} is not a patch type; send one of ${types}.`);
      }
      const write = patchFrom(type as keyof typeof PATCH_TYPES, request.params, request.body, context);
      return sendWritten(context, request, reply, { ...write, ...endFrom(request.query) }, idempotencyKey(request));
    },
  );
}

function serveDeleteDocument(routes: Routes, context: DocumentsContext): void {
  routes.delete(
    '/v1/data/:collection/:id',
    {
      config: { described: { requestHeaders: ['If-Match', 'If-None-Match'] } },
      schema: {
        operationId: 'deleteDocument',
        tags,
        summary: 'Delete a document',
        params: DocumentParams,
        response: { 204: z.null().describe('It is deleted.'), default: Problem },
      },
    },
    async (request, reply) => {
      await append(context, request, { kind: 'delete', ...request.params }, undefined);
      return sendNothing(reply);
    },
  );
}

function wantsStream(request: FastifyRequest): boolean {
  const type = accepts(request.raw).type(['application/json', 'text/event-stream']);
  if (type === false) {
    throw problemError(
      'not-acceptable',
      `The format "${request.headers.accept}" is not available. Accept application/json, or text/event-stream for a watch.`,
      { parameter: 'Accept' },
    );
  }
  return type === 'text/event-stream';
}

function sendDocument(
  context: Pick<Context, 'store' | 'identities' | 'usage'>,
  request: FastifyRequest,
  reply: FastifyReply,
  collection: string,
  id: string,
): void {
  const { store, identities } = context;
  const found = findStored(store, collection, id);
  const text = found && seenDocument(found, identities.accessOf(request.identity, collection));
  const stored = text === undefined ? undefined : found;
  const version = stored?.version ?? 0;
  const verdict = evaluateReadConditions(request.headers, stored?.version);
  if (verdict === 'failed') {
    const detail = `${collection}/${id} ${version === 0 ? 'does not exist' : `has version ${version}`}.`;
    throw problemError('precondition-failed', detail, { currentVersion: version });
  }
  if (!stored) {
    const detail = describeAbsent(context, request.identity, collection, id);
    throw problemError('no-such-document', detail);
  }
  context.usage.counterFor(formatIdentity(request.identity.author), collection).read(1, 1);
  reply.header('etag', entityTag(version));
  if (verdict === 'unchanged') void reply.code(304).send();
  else sendJson(reply, text!);
}

function sendNothing(reply: FastifyReply): FastifyReply {
  return reply.code(204).send();
}

function sendJson(reply: FastifyReply, text: string): void {
  void reply.type('application/json; charset=utf-8').send(text);
}

function sendDocumentAt(request: FastifyRequest, reply: FastifyReply, document: Document): void {
  reply.header('etag', entityTag(document.version));
  if (evaluateReadConditions(request.headers, document.version) === 'unchanged') void reply.code(304).send();
  else sendJson(reply, JSON.stringify(document));
}

/** The write that the body of a PATCH asks for. */
function patchFrom(
  type: keyof typeof PATCH_TYPES,
  address: { collection: string; id: string },
  body: unknown,
  { committer }: Pick<Context, 'committer'>,
): Write {
  switch (PATCH_TYPES[type]) {
    case 'merge':
      return { kind: 'merge', ...address, data: committer.checkData(body) };
    case 'patch':
      return { kind: 'patch', ...address, ops: checkBody(PatchOperations, body) };
    case 'adjust':
      return { kind: 'adjust', ...address, by: checkBody(WireAdjustments, body) };
  }
}

/** Checks a body against a declaration. Throws `bad-request` with the place at fault. */
function checkBody<Schema extends z.ZodType>(schema: Schema, body: unknown): z.infer<Schema> {
  const checked = schema.safeParse(body);
  if (checked.success) return checked.data;
  const { detail, pointer } = describeIssue(checked.error.issues);
  throw problemError('bad-request', detail, { pointer });
}

/** Applies one write and answers with the document as it is then. */
async function sendWritten(
  context: Pick<Context, 'identities' | 'committer'>,
  request: FastifyRequest,
  reply: FastifyReply,
  write: Write,
  key?: string,
): Promise<FastifyReply> {
  const { change, warnings } = await append(context, request, write, key);
  const { collection, id, before, after } = change;
  tellWarnings(reply, warnings);
  const access = context.identities.accessOf(request.identity, collection);
  // A caller may write documents that it may not read.
  const visible = sees(access, after!);
  reply.header('etag', entityTag(after!.version)).code(!before ? 201 : visible ? 200 : 204);
  if (!before) reply.header('location', `/v1/data/${collection}/${id}`);
  if (!visible) return reply.send();
  const shown = withoutFields(after!, access.conceal);
  return reply.type('application/json; charset=utf-8').send(JSON.stringify(shown));
}

/** Warnings about schema violations go into a header, since the body is the document. */
function tellWarnings(reply: FastifyReply, warnings: Written['warnings']): void {
  if (!warnings || warnings.length === 0) return;
  const violations = warnings.flatMap((warning) => warning.violations);
  const texts = violations.slice(0, 5).map(({ pointer, detail }) => `${encodeURI(pointer) || '/'} ${detail}`);
  // Header fields carry printable ASCII (RFC 9110, section 5.5).
  reply.header('schema-violations', texts.join('; ').replace(/[^\x20-\x7e]/g, '?'));
}

async function append(
  { committer }: Pick<Context, 'committer'>,
  request: FastifyRequest,
  write: Write,
  key: string | undefined,
) {
  const condition = conditionFrom(request.headers);
  const retry = key === undefined ? undefined : { id: key, content: contentOf(request, condition) };
  const guarded = condition ? { ...write, condition } : write;
  return committer.write(guarded, senderOf(request), retry).catch(rejectFailedPrecondition);
}

/** Everything that makes up the content of a write, so that a retry can be recognised. */
function contentOf({ method, url, body }: FastifyRequest, condition: Condition | undefined): JsonValue {
  return [method, url, condition ?? null, body ?? null] as unknown as JsonValue;
}
