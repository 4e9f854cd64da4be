import { createProblem, ProblemError, type Problem } from '@uproar/protocol';
import type { StorageHealth } from '../store/index.js';
import { asProblem, describeIssue } from '../requests/problems.js';
import { PATCH_TYPES } from './body-parser.js';
import type { FastifyError, FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { z } from 'zod';
import type { $ZodIssue } from 'zod/v4/core';

/** Sends a problem report (RFC 9457). */
export function sendProblem(reply: FastifyReply, problem: Problem): FastifyReply {
  if (problem.status === 401) reply.header('www-authenticate', 'Bearer realm="uproar"');
  if (problem.retryAfter !== undefined) reply.header('retry-after', String(problem.retryAfter));
  else if (problem.status === 503) reply.header('retry-after', '1');
  return reply.code(problem.status).type('application/problem+json').send(JSON.stringify(problem));
}

/**
 * Makes every error a problem report: failed validation, unknown routes, and internal errors.
 *
 * @param note called with each problem
 * @param health called with errors of the disk
 */
export function handleErrors(
  app: FastifyInstance,
  note: (problem: Problem) => void,
  health: Pick<StorageHealth, 'note'>,
): void {
  const routes = new Map<RegExp, Set<string>>();
  app.addHook('onRoute', ({ url, method }) => {
    const pattern = new RegExp(`^${url.replace(/[.*+?^${}()|[\]\\]/g, '\\$&').replace(/:\w+/g, '[^/]+')}$`);
    const known = [...routes].find(([{ source }]) => source === pattern.source)?.[1] ?? new Set();
    for (const name of [method].flat()) known.add(name);
    if (known.size > 0) routes.set(pattern, known);
  });

  app.setErrorHandler((error: FastifyError, request, reply) => {
    // The client closed the connection before the answer began. This is no error of the service.
    if (error.code === 'ERR_STREAM_PREMATURE_CLOSE' && reply.raw.destroyed) return reply.send();
    const problem = problemFor(error, request);
    health.note(error);
    note(problem);
    if (problem.status >= 500 && problem.type.endsWith('/internal'))
      request.log.error({ request: request.id, err: error }, error.message);
    return sendProblem(reply, problem);
  });

  app.setNotFoundHandler((request, reply) => {
    const path = request.url.split('?')[0]!;
    const allowed = [...routes].filter(([pattern]) => pattern.test(path)).flatMap(([, methods]) => [...methods]);
    const methods = [...new Set(allowed)].sort().join(', ');
    const problem =
      methods === ''
        ? createProblem(
            'no-such-route',
            `The address ${path} does not exist. Data is at /v1/data/{collection}; /openapi.json lists all addresses.`,
          )
        : createProblem('method-not-allowed', `${path} takes ${methods}, not ${request.method}.`);
    note(problem);
    if (methods !== '') reply.header('allow', methods);
    return sendProblem(reply, problem);
  });
}

/** The report of an error. */
export function problemFor(error: FastifyError, request: FastifyRequest): Problem {
  if (error instanceof ProblemError) return error.problem;
  const known = asProblem(error);
  if (known) return known;
  switch (error.code) {
    case 'FST_ERR_CTP_BODY_TOO_LARGE':
      return createProblem('too-large', 'The body is too large for this address. Send less at once.');
    case 'FST_ERR_CTP_INVALID_MEDIA_TYPE':
      return unsupportedType(request);
    case 'FST_ERR_CTP_EMPTY_JSON_BODY':
      return createProblem('bad-json', 'The body is empty; a JSON object was expected.', { position: 0 });
    default:
  }
  if (error.statusCode && error.statusCode < 500) return createProblem('bad-request', error.message);
  return createProblem('internal', 'The service failed to handle this request; see its log. Nothing was written.');
}

/** What to send instead of a content type that is not taken. */
function unsupportedType(request: FastifyRequest): Problem {
  const found = request.headers['content-type'];
  const expected = request.method === 'PATCH' ? Object.keys(PATCH_TYPES).join(', ') : 'application/json';
  return createProblem(
    'unsupported-type',
    `${found ? `The content type "${found}" is not supported here` : 'The content type is missing'}; send ${expected}.`,
    { parameter: 'Content-Type' },
  );
}

/** Validates a part of a request against its Zod declaration. The first issue becomes a problem with its place. */
export function compileCheck({ schema, httpPart = 'body' }: { schema: z.ZodType; httpPart?: string }) {
  return (value: unknown) => {
    const checked = schema.safeParse(value);
    if (checked.success) return { value: checked.data };
    return { error: new ProblemError(validationProblem(checked.error.issues, httpPart)) };
  };
}

function validationProblem(issues: readonly $ZodIssue[], part: string): Problem {
  const { detail, pointer } = describeIssue(issues);
  const name = pointer.slice(1);
  switch (part) {
    case 'params':
      return createProblem(name === 'collection' ? 'bad-collection' : 'bad-id', detail, { parameter: name });
    case 'querystring':
      return createProblem('bad-request', detail, { parameter: name || undefined });
    default:
      return createProblem('bad-request', detail, { pointer });
  }
}
