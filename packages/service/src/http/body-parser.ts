import type { FastifyInstance } from 'fastify';
import { parseBody } from '../requests/parse-body.js';

/** The media types that PATCH takes, and what kind of write each is. */
export const PATCH_TYPES = {
  'application/merge-patch+json': 'merge',
  'application/json-patch+json': 'patch',
  'application/vnd.uproar.adjust+json': 'adjust',
} as const;

/** Takes JSON bodies as I-JSON: valid UTF-8, distinct member names, numbers that a double can hold. */
export function parseJsonBodies(app: FastifyInstance): void {
  app.removeAllContentTypeParsers();
  const types = ['application/json', ...Object.keys(PATCH_TYPES)];
  app.addContentTypeParser(types, { parseAs: 'buffer' }, async (_request: unknown, body: Buffer) => parseBody(body));
}
