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
import { distance } from 'fastest-levenshtein';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { stringifyStored } from '../store/index.js';
import type { Context } from './context.js';
import { answerWithWatch } from './event-stream.js';
import { conditionFrom, entityTag, judgeRead } from './preconditions.js';

const CollectionParams = z.object({ collection: CollectionName });
const DocumentParams = z.object({ collection: CollectionName, id: DocumentId });
const ListingQuery = z.strictObject(
  {
    limit: z.coerce
      .number({ error: 'The limit is a number from 1 to 10000.' })
      .int({ error: 'The limit is a whole number.' })
      .min(1, { error: 'The limit is at least 1.' })
      .max(10_000, { error: 'The limit is at most 10000; follow "next" for more.' })
      .default(500)
      .describe('The most documents to give.'),
    after: z.string().max(300).optional().describe('The cursor `next` of the listing before.'),
  },
  { error: (issue) => unknownParameters(issue, ['limit', 'after']) },
);
const STREAM_NOTE =
  'With `Accept: text/event-stream` the answer is a watch: `result` first, then `change`, now and then `reset`, and `end`.';

function unknownParameters(issue: { code?: string; keys?: unknown }, known: string[]): string | undefined {
  if (issue.code !== 'unrecognized_keys') return undefined;
  return `There is no parameter ${String(issue.keys)}; there are: ${known.join(', ')}.`;
}

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
        summary: 'List or watch a collection',
        description: `The documents in the order of their ids, a part at a time. ${STREAM_NOTE}`,
        params: CollectionParams,
        querystring: ListingQuery,
        response: { 200: Listing, default: Problem },
      },
    },
    (request, reply) => {
      const { collection } = request.params;
      if (wantsStream(request)) answerWithWatch(context, request, reply, { query: { from: collection } });
      else sendListing(context, reply, collection, request.query);
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
    const detail = info
      ? `There is no document ${collection}/${id}.`
      : describeMissing(store.collections.list(), collection);
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

function sendListing(
  { store }: Context,
  reply: FastifyReply,
  collection: string,
  { limit, after }: z.infer<typeof ListingQuery>,
): void {
  const from = after === undefined ? '' : readCursor(after);
  const info = store.collections.get(collection);
  const found = info ? store.documents.list(info.number, from, limit + 1) : [];
  const more = found.length > limit;
  const shown = found.slice(0, limit);
  const documents = shown.map(stringifyStored).join(',');
  let tail = '';
  if (more) {
    const next = writeCursor(shown.at(-1)!.id);
    reply.header('link', `</v1/data/${collection}?limit=${limit}&after=${next}>; rel="next"`);
    tail += `,"next":"${next}"`;
  }
  if (!info) tail += `,"notes":${JSON.stringify([describeMissing(store.collections.list(), collection)])}`;
  sendJson(reply, `{"seq":${store.log.seq},"documents":[${documents}],"more":${more}${tail}}`);
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

/** Says that nothing was ever written to a collection, and which are called nearly the same. */
function describeMissing(collections: readonly { name: string }[], name: string): string {
  const near = collections
    .map((info) => ({ name: info.name, distance: distance(info.name, name) }))
    .filter((candidate) => candidate.distance <= Math.max(2, name.length / 3))
    .sort((a, b) => a.distance - b.distance)
    .slice(0, 3)
    .map((candidate) => `"${candidate.name}"`);
  const hint = near.length > 0 ? ` Did you mean ${near.join(' or ')}?` : '';
  return `Nothing was ever written to a collection "${name}".${hint}`;
}

function writeCursor(id: string): string {
  return Buffer.from(JSON.stringify({ id })).toString('base64url');
}

function readCursor(cursor: string): string {
  try {
    const { id } = z.object({ id: DocumentId }).parse(JSON.parse(Buffer.from(cursor, 'base64url').toString()));
    return id;
  } catch {
    throw ProblemError.of(
      'bad-cursor',
      'Use the cursor exactly as "next" gave it, or leave "after" out to begin anew.',
      {
        parameter: 'after',
      },
    );
  }
}
