import type { Write } from '@uproar/core';
import {
  CollectionName,
  createProblem,
  Data,
  DocumentId,
  Listing,
  Problem,
  ProblemError,
  problemName,
  WireDocument,
} from '@uproar/protocol';
import accepts from 'accepts';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { stringifyStored } from '../store/index.js';
import { queryFromParameters, QueryParameters } from './query-form.js';
import { answerQuery, describeAbsent } from './send-query.js';
import type { Context } from './context.js';
import { answerWithWatch } from './event-stream.js';
import { conditionFrom, entityTag, judgeRead } from './preconditions.js';

const CollectionParams = z.object({ collection: CollectionName });
const DocumentParams = z.object({ collection: CollectionName, id: DocumentId });
const STREAM_NOTE =
  'With `Accept: text/event-stream` the answer is a watch: `result` first, then `change`, now and then `reset`, and `end`.';

/** The documents of a collection. */
export function serveData(app: FastifyInstance, context: Context): void {
  const routes = app.withTypeProvider<ZodTypeProvider>();
  const { store, committer } = context;
  const tags = ['data'];

  routes.get(
    '/v1/data/:collection',
    {
      schema: {
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

  routes.post(
    '/v1/data/:collection',
    {
      bodyLimit: store.limits.sizeBytes * 2,
      schema: {
        tags,
        summary: 'Create a document with a generated id',
        params: CollectionParams,
        body: Data,
        response: { 201: WireDocument, default: Problem },
      },
    },
    async (request, reply) => {
      const { collection } = request.params;
      const data = committer.checkData(request.body);
      return sendWritten(context, request, reply, { kind: 'create', collection, id: committer.newId(), data });
    },
  );

  routes.get(
    '/v1/data/:collection/:id',
    {
      schema: {
        tags,
        summary: 'Read or watch one document',
        description: `A watch may begin before the document exists. ${STREAM_NOTE}`,
        params: DocumentParams,
        response: { 200: WireDocument, 304: z.null().describe('The version is the one named.'), default: Problem },
      },
    },
    (request, reply) => {
      const { collection, id } = request.params;
      if (wantsStream(request)) answerWithWatch(context, request, reply, { doc: `${collection}/${id}` });
      else sendDocument(context, request, reply, collection, id);
    },
  );

  routes.put(
    '/v1/data/:collection/:id',
    {
      bodyLimit: store.limits.sizeBytes * 2,
      schema: {
        tags,
        summary: 'Create or replace a document',
        params: DocumentParams,
        body: Data,
        response: { 200: WireDocument, 201: WireDocument, default: Problem },
      },
    },
    async (request, reply) => {
      const data = committer.checkData(request.body);
      return sendWritten(context, request, reply, { kind: 'put', ...request.params, data });
    },
  );

  routes.patch(
    '/v1/data/:collection/:id',
    {
      bodyLimit: store.limits.sizeBytes * 2,
      schema: {
        tags,
        summary: 'Change fields of a document',
        description: 'The body is a JSON Merge Patch (RFC 7396): null removes a field.',
        consumes: ['application/merge-patch+json'],
        params: DocumentParams,
        body: Data,
        response: { 200: WireDocument, default: Problem },
      },
    },
    async (request, reply) => {
      const type = request.headers['content-type']?.split(';')[0]?.trim().toLowerCase();
      reply.header('accept-patch', 'application/merge-patch+json');
      if (type !== 'application/merge-patch+json') {
        throw ProblemError.of('unsupported-type', `${type} is no patch; send application/merge-patch+json.`);
      }
      const data = committer.checkData(request.body);
      return sendWritten(context, request, reply, { kind: 'merge', ...request.params, data });
    },
  );

  routes.delete(
    '/v1/data/:collection/:id',
    {
      schema: {
        tags,
        summary: 'Delete a document',
        params: DocumentParams,
        response: { 204: z.null().describe('It is deleted.'), default: Problem },
      },
    },
    async (request, reply) => {
      await append(context, request, { kind: 'delete', ...request.params });
      return sendNothing(reply);
    },
  );
}

function wantsStream(request: FastifyRequest): boolean {
  const type = accepts(request.raw).type(['application/json', 'text/event-stream']);
  if (type === false) {
    throw ProblemError.of(
      'not-acceptable',
      `Nothing here comes as "${request.headers.accept}". Accept application/json, or text/event-stream for a watch.`,
      { parameter: 'Accept' },
    );
  }
  return type === 'text/event-stream';
}

function sendDocument(
  { store }: Context,
  request: FastifyRequest,
  reply: FastifyReply,
  collection: string,
  id: string,
): void {
  const info = store.collections.get(collection);
  const stored = info && store.documents.get(info.number, id);
  const version = stored?.version ?? 0;
  const verdict = judgeRead(request.headers, stored?.version);
  if (verdict === 'failed') {
    const detail = `${collection}/${id} ${version === 0 ? 'does not exist' : `has version ${version}`}.`;
    throw ProblemError.of('precondition-failed', detail, { currentVersion: version });
  }
  if (!stored) {
    const detail = describeAbsent(store, collection, id);
    throw ProblemError.of('no-such-document', detail);
  }
  reply.header('etag', entityTag(version));
  if (verdict === 'unchanged') void reply.code(304).send();
  else sendJson(reply, stringifyStored(stored));
}

function sendNothing(reply: FastifyReply): FastifyReply {
  return reply.code(204).send();
}

function sendJson(reply: FastifyReply, text: string): void {
  void reply.type('application/json; charset=utf-8').send(text);
}

/** Applies one write and answers with the document as it is then. */
async function sendWritten(
  context: Context,
  request: FastifyRequest,
  reply: FastifyReply,
  write: Write,
): Promise<FastifyReply> {
  const { before, after } = await append(context, request, write);
  reply.header('etag', entityTag(after!.version));
  if (!before) reply.code(201).header('location', `/v1/data/${write.collection}/${write.id}`);
  return reply.type('application/json; charset=utf-8').send(JSON.stringify(after));
}

async function append({ committer }: Context, request: FastifyRequest, write: Write) {
  const condition = conditionFrom(request.headers);
  try {
    const { changes } = await committer.append([{ ...write, condition }], request.identity);
    return changes[0]!;
  } catch (error) {
    if (!(error instanceof ProblemError) || problemName(error.problem) !== 'version-mismatch') throw error;
    const { detail, document, currentVersion } = error.problem;
    throw new ProblemError(createProblem('precondition-failed', detail, { document, currentVersion }));
  }
}
