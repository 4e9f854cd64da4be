import { isDocumentId } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { FastifyRequest } from 'fastify';
import type { Sender } from '../../commit/committer.js';
import { idSpaceOf } from '../../identity/identity.js';

/** Who sends the writes of a request; requests of one connection keep their order. */
export function senderOf(request: FastifyRequest): Sender {
  return {
    author: request.identity.author,
    rights: request.identity.rights,
    idSpace: idSpaceOf(request.identity),
    lane: request.raw.socket,
    sizeBytes: Number(request.headers['content-length'] ?? 0),
  };
}

/**
 * The `Idempotency-Key` of a request, bare or as a string in double quotes (RFC 9651, section 3.3.3).
 *
 * @throws {ProblemError} `bad-request`
 */
export function idempotencyKey(request: FastifyRequest): string | undefined {
  const header = request.headers['idempotency-key'];
  if (header === undefined) return undefined;
  const key = /^"(.*)"$/.exec(String(header))?.[1] ?? String(header);
  if (isDocumentId(key)) return key;
  throw problemError(
    'bad-request',
    'An Idempotency-Key is 1 to 128 of A-Z, a-z, 0-9, "-", ".", "_" and "~", for example a UUID.',
    { parameter: 'Idempotency-Key' },
  );
}
