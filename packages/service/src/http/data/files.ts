import { createReadStream } from 'node:fs';
import {
  describeUnmet,
  formatTime,
  isObject,
  sees,
  withoutFields,
  type Access,
  type Condition,
  type Document,
  type JsonObject,
} from '@uproar/core';
import { DocumentId, Problem, ProblemError, problemError, problemName, WireDocument } from '@uproar/protocol';
import contentDisposition from 'content-disposition';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import parseRange from 'range-parser';
import { z } from 'zod';
import { LINK_SECONDS } from '../../identity/signed-links.js';
import { seenDocument } from '../../reading/visible-document.js';
import { FILES, findStored, stringifyStored, type Received } from '../../store/index.js';
import { readableAccess } from '../../requests/identity-scope.js';
import { parseBody } from '../../requests/parse-body.js';
import type { Context } from '../../requests/context.js';
import { conditionFrom, rejectFailedPrecondition, versionOfTag } from './preconditions.js';
import { senderOf } from './sender.js';

/** The parts of the service that these routes use. */
type FilesContext = Pick<Context, 'store' | 'identities'>;

/** Contents of these types are shown by browsers without running anything in them. */
const SHOWN_INLINE = /^(?:image\/(?:png|jpeg|gif|webp|avif|bmp)|audio\/[\w.+-]+|video\/[\w.+-]+|text\/plain)(?:;|$)/;
const TYPE = /^[a-z0-9!#$&^_.+-]+\/[a-z0-9!#$&^_.+-]+(?:; ?charset=[\w-]+)?$/;

const Params = z.strictObject({ id: DocumentId });
const UploadParameters = z.strictObject({
  name: z
    .string()
    .min(1)
    .max(255)
    // eslint-disable-next-line no-control-regex
    .regex(/^[^\u0000-\u001f/\\\u007f]*$/, { error: 'A name has no slashes and no control characters.' })
    .optional()
    .describe('The name of the file.'),
  data: z.string().max(16_000).optional().describe('Your own fields for the description: a JSON object.'),
});
const Link = z
  .object({ url: z.string().describe('A path of this service that needs no key.'), expires: z.iso.datetime() })
  .meta({ id: 'Link' });

/** Files: documents of the collection `files` with content. */
export function serveFiles(
  app: FastifyInstance,
  context: Pick<Context, 'store' | 'cluster' | 'identities' | 'links' | 'committer'>,
): void {
  const tags = ['files'];
  const described = { 200: WireDocument, 201: WireDocument, default: Problem };

  // Here bodies are not read before the route is run.
  void app.register(async (scope) => {
    scope.removeAllContentTypeParsers();
    scope.addContentTypeParser('*', (_request, body, done) => done(null, body));
    const routes = scope.withTypeProvider<ZodTypeProvider>();
    const config = {
      takesLong: true,
      described: { requestTypes: 'bytes', responseHeaders: ['ETag', 'Location'] },
    } as const;
    const conditional = {
      ...config,
      described: { ...config.described, requestHeaders: ['If-Match', 'If-None-Match'] },
    } as const;
    const description =
      'The body is the content; `Content-Type` is its type. Returns the description of the file, with `name`, `type`, `size` and `sha256`.';
    routes.post(
      '/v1/files',
      {
        config,
        schema: {
          operationId: 'createFile',
          tags,
          summary: 'Upload a file',
          description,
          querystring: UploadParameters,
          response: described,
        },
      },
      async (request, reply) =>
        upload(context, request as FastifyRequest, reply as FastifyReply, context.committer.newId(), request.query),
    );
    routes.put(
      '/v1/files/:id/content',
      {
        config: conditional,
        schema: {
          operationId: 'putFileContent',
          tags,
          summary: 'Upload a file under an id, or replace its content',
          description,
          params: Params,
          querystring: UploadParameters,
          response: described,
        },
      },
      async (request, reply) =>
        upload(context, request as FastifyRequest, reply as FastifyReply, request.params.id, request.query),
    );
  });

  const routes = app.withTypeProvider<ZodTypeProvider>();
  routes.route({
    method: ['GET', 'HEAD'],
    url: '/v1/files/:id/content',
    config: {
      signed: true,
      described: {
        requestHeaders: ['If-None-Match', 'Range', 'If-Range'],
        responseHeaders: ['ETag', 'Content-Range'],
        responseTypes: ['*/*'],
      },
    },
    schema: {
      operationId: 'getFileContent',
      tags,
      summary: 'Read the content of a file',
      description: 'The whole content, or a part with `Range` (RFC 9110, section 14). The ETag is the hash.',
      params: Params,
      querystring: z.looseObject({
        expires: z.string().optional().describe('Of a signed link.'),
        signature: z.string().optional().describe('Part of a signed link; replaces the key.'),
        download: z.string().optional().describe('Make browsers download the content.'),
      }),
      response: {
        200: z.unknown().describe('The content.'),
        206: z.unknown().describe('A part of it.'),
        304: z.null().describe('The content is unchanged.'),
        default: Problem,
      },
    },
    handler: (request, reply) => download(context, request, reply as FastifyReply, request.params.id),
  });
  routes.post(
    '/v1/files/:id/link',
    {
      schema: {
        operationId: 'createFileLink',
        tags,
        summary: 'Create a signed link to the content of a file',
        description:
          'For clients that cannot send headers, such as an image in a page. Anyone with the link can read the content until it expires.',
        params: Params,
        body: z
          .strictObject({ seconds: z.int().min(1).max(LINK_SECONDS.most).default(LINK_SECONDS.usual) })
          .default({ seconds: LINK_SECONDS.usual }),
        response: { 201: Link, default: Problem },
      },
    },
    async (request, reply) => {
      const { id } = request.params;
      seenFile(context, request, id);
      const expiresMs = Date.now() + request.body.seconds * 1000;
      const path = contentAddress(id);
      const url = `${path}?${context.links.sign(path, expiresMs)}`;
      return reply
        .code(201)
        .header('cache-control', 'no-store')
        .send({ url, expires: formatTime(expiresMs) });
    },
  );
}

/** The address of a content, as links are signed for it. */
export function contentAddress(id: string): string {
  return `/v1/files/${id}/content`;
}

/** The description of a file, as far as the caller may see it. */
function seenDescription(
  { store }: Pick<Context, 'store'>,
  id: string,
  access: Access | undefined,
): Document | undefined {
  const stored = findStored(store, FILES, id);
  // A signed link was created by someone who may read the file.
  const text = stored && (access ? seenDocument(stored, access) : stringifyStored(stored));
  return text === undefined ? undefined : (JSON.parse(text) as Document);
}

/** The description of a file with content, as far as the caller may see it. */
function seenFile(context: FilesContext, request: FastifyRequest, id: string): Document {
  const granted = request.identity as typeof request.identity | undefined;
  const document = seenDescription(context, id, granted && readableAccess(context, granted, FILES));
  if (typeof document?.data.sha256 === 'string') return document;
  throw problemError(
    'no-such-document',
    document ? `${FILES}/${id} has no content.` : `The document ${FILES}/${id} does not exist.`,
  );
}

async function upload(
  context: Pick<Context, 'store' | 'cluster' | 'identities' | 'committer'>,
  request: FastifyRequest,
  reply: FastifyReply,
  id: string,
  { name, data }: z.infer<typeof UploadParameters>,
): Promise<FastifyReply> {
  const { store, identities } = context;
  const fields = data === undefined ? {} : readFields(data);
  const type = (request.headers['content-type'] ?? 'application/octet-stream').toLowerCase();
  if (!TYPE.test(type)) {
    throw problemError('unsupported-type', `"${type}" is not a media type.`, { parameter: 'Content-Type' });
  }
  const access = identities.accessOf(request.identity, FILES);
  if (access.create === false && access.update === false) {
    throw problemError('not-allowed', `You may not write files: no policy rule for ${FILES} allows it.`, {
      rule: 'create',
    });
  }
  checkCondition(context, request, id);
  const length = request.headers['content-length'];
  // Where it is refused halfway, the rest is not waited for.
  reply.header('connection', 'close');
  const received = await store.contents.receive(request.raw, length === undefined ? undefined : Number(length));
  reply.removeHeader('connection');
  const described = { ...fields, ...(name === undefined ? {} : { name }), ...describeContent(type, received) };
  const { sha256 } = received;
  await context.cluster?.contents.spread(sha256).catch(async (error: unknown) => {
    await store.contents.settle(sha256, true);
    throw error;
  });
  const { change } = await writeDescription(context, request, id, described, sha256).catch(async (error: unknown) => {
    await store.contents.settle(sha256, true);
    return rejectFailedPrecondition(error);
  });
  await store.contents.settle(sha256, false);
  reply.code(change.before ? 200 : 201).header('location', `/v1/data/${FILES}/${id}`);
  return reply.header('etag', `"${sha256}"`).send(seenBy(context, request, change.after!));
}

/** The description as its writer may see it. A caller may write descriptions that it may not read. */
function seenBy({ identities }: Pick<Context, 'identities'>, request: FastifyRequest, after: Document): Document {
  const access = identities.accessOf(request.identity, FILES);
  return sees(access, after) ? withoutFields(after, access.conceal) : { ...after, data: {} };
}

function describeContent(type: string, { sha256, sizeBytes }: Received): JsonObject {
  return { type, size: sizeBytes, sha256 };
}

/** Whether the description exists is decided when the content has arrived: it is then changed or created. */
async function writeDescription(
  context: Pick<Context, 'store' | 'identities' | 'committer'>,
  request: FastifyRequest,
  id: string,
  data: JsonObject,
  content: string,
) {
  const { committer } = context;
  const condition = conditionOf(context, request, id);
  const sender = senderOf(request);
  const write = { collection: FILES, id, content, ...(condition ? { condition } : {}) };
  try {
    return await committer.write({ ...write, kind: 'merge', data }, sender);
  } catch (error) {
    if (!(error instanceof ProblemError) || problemName(error.problem) !== 'no-such-document') throw error;
    return committer.write({ ...write, kind: 'create', data: { name: id, ...data } }, sender);
  }
}

/**
 * What `If-Match` and `If-None-Match` ask of a file that is to be sent. Its ETag is the hash of its content, which stands for the
 * version that has it; the version of its description is taken as well.
 */
function conditionOf(context: FilesContext, request: FastifyRequest, id: string): Condition | undefined {
  return readCondition(request, descriptionFor(context, request, id));
}

/** Refuses what would be refused in the end before it is read. */
function checkCondition(context: FilesContext, request: FastifyRequest, id: string): void {
  const now = descriptionFor(context, request, id);
  const condition = readCondition(request, now);
  const unmet = condition && describeUnmet(condition, now);
  if (unmet === undefined) return;
  throw problemError('precondition-failed', `${FILES}/${id} ${unmet}.`, { document: `${FILES}/${id}` });
}

function descriptionFor(context: FilesContext, request: FastifyRequest, id: string): Document | undefined {
  return seenDescription(context, id, context.identities.accessOf(request.identity, FILES));
}

function readCondition({ headers }: FastifyRequest, now: Document | undefined): Condition | undefined {
  return conditionFrom(headers, (tag) => (tag === now?.data.sha256 ? now.version : versionOfTag(tag)));
}

function readFields(text: string): JsonObject {
  const value = parseBody(Buffer.from(text));
  if (isObject(value)) return value;
  throw problemError('bad-request', 'The parameter "data" is a JSON object.', { parameter: 'data' });
}

async function download(
  context: FilesContext & Pick<Context, 'cluster'>,
  request: FastifyRequest,
  reply: FastifyReply,
  id: string,
): Promise<FastifyReply> {
  const { data } = seenFile(context, request, id);
  const { sha256, size, type, name } = data as { sha256: string; size: number; type?: unknown; name?: unknown };
  if (request.method !== 'HEAD') await context.cluster?.contents.ensure(sha256);
  const tag = `"${sha256}"`;
  const shownType = typeof type === 'string' && TYPE.test(type) ? type : 'application/octet-stream';
  const { download: save } = request.query as { download?: string };
  const inline = SHOWN_INLINE.test(shownType) && save === undefined;
  reply.headers({
    etag: tag,
    'accept-ranges': 'bytes',
    'cache-control': 'private, no-cache',
    'content-disposition': contentDisposition(typeof name === 'string' ? name : id, {
      type: inline ? 'inline' : 'attachment',
    }),
    // Nothing in the content may run in this origin.
    'content-security-policy': "default-src 'none'; sandbox",
    'x-content-type-options': 'nosniff',
    'cross-origin-resource-policy': request.identity ? 'same-origin' : 'cross-origin',
  });
  const known = request.headers['if-none-match'];
  if (
    known !== undefined &&
    (known === '*' || known.split(',').some((one) => one.trim().replace(/^W\//, '') === tag))
  ) {
    return reply.code(304).send();
  }
  const part = rangeOf(request, tag, size);
  if (part === 'unsatisfiable') {
    reply.header('content-range', `bytes */${size}`);
    throw problemError('range-not-satisfiable', `The content has ${size} bytes.`, { parameter: 'Range' });
  }
  const { start, end } = part ?? { start: 0, end: size - 1 };
  if (part) reply.code(206).header('content-range', `bytes ${start}-${end}/${size}`);
  reply.header('content-length', end - start + 1).type(shownType);
  if (request.method === 'HEAD') {
    const headers = Object.fromEntries(Object.entries(reply.getHeaders()).map(([key, value]) => [key, String(value)]));
    reply.hijack();
    reply.raw.writeHead(reply.statusCode, headers).end();
    return reply;
  }
  if (size === 0) return reply.send('');
  return reply.send(createReadStream(context.store.contents.path(sha256), { start, end }));
}

/** The requested range. A request for several ranges, or an invalid one, gets the whole content. */
function rangeOf(
  request: FastifyRequest,
  tag: string,
  size: number,
): { start: number; end: number } | 'unsatisfiable' | undefined {
  const { range, 'if-range': onlyIf } = request.headers;
  if (range === undefined || (onlyIf !== undefined && onlyIf !== tag)) return undefined;
  if (range.length > 200) return undefined;
  const parts = parseRange(size, range);
  if (parts === -1) return 'unsatisfiable';
  if (parts === -2 || parts.type !== 'bytes' || parts.length !== 1) return undefined;
  return parts[0];
}
