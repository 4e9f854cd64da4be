import { JsonTextError, parseJson } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';

/** The media types that PATCH takes, and what kind of write each is. */
export const PATCH_TYPES = {
  'application/merge-patch+json': 'merge',
  'application/json-patch+json': 'patch',
  'application/vnd.uproar.adjust+json': 'adjust',
} as const;

const UTF8 = new TextDecoder('utf-8', { fatal: true, ignoreBOM: false });

/** Takes JSON bodies as I-JSON: valid UTF-8, distinct member names, numbers that a double can hold. */
export function parseJsonBodies(app: FastifyInstance): void {
  app.removeAllContentTypeParsers();
  const types = ['application/json', ...Object.keys(PATCH_TYPES)];
  app.addContentTypeParser(types, { parseAs: 'buffer' }, async (_request: unknown, body: Buffer) => parseBody(body));
}

/**
 * Reads a JSON text from bytes.
 *
 * @throws {ProblemError} `bad-json`, with the position where it shows
 */
export function parseBody(body: Uint8Array): unknown {
  let text: string;
  try {
    text = UTF8.decode(body);
  } catch {
    throw problemError('bad-json', 'The body is not valid UTF-8; JSON is exchanged as UTF-8.');
  }
  try {
    return parseJson(text);
  } catch (error) {
    if (!(error instanceof JsonTextError)) throw error;
    throw problemError('bad-json', error.message, { position: error.position });
  }
}
