import { dirname } from 'node:path';
import fastifyStatic from '@fastify/static';
import type { FastifyInstance } from 'fastify';
import { InlineScripts } from './inline-scripts.js';

/** The files of the client for browsers. */
const CLIENT_FILES = ['/uproar.js', '/uproar-deferred.js'];

/** Serves the client at `/client/uproar.js`, with the file that it loads later, for pages of any origin. */
export async function serveClient(app: FastifyInstance, file: string): Promise<void> {
  await app.register(async (scope) => {
    scope.addHook('onRoute', (route) => {
      route.config = { ...route.config, open: true };
      route.schema = { ...route.schema, hide: true };
    });
    scope.addHook('onSend', async (_request, reply) => {
      reply.removeHeader('vary');
      // RFC 9239, section 6.
      if (reply.statusCode === 200) reply.type('text/javascript; charset=utf-8');
      reply.headers({
        'cache-control': 'no-cache',
        'access-control-allow-origin': '*',
        'cross-origin-resource-policy': 'cross-origin',
        'x-content-type-options': 'nosniff',
      });
    });
    await scope.register(fastifyStatic, {
      root: dirname(file),
      prefix: '/client/',
      allowedPath: (path) => CLIENT_FILES.includes(path),
      cacheControl: false,
      decorateReply: false,
    });
  });
}

/** What pages may load (Content Security Policy, level 3). */
function policyWith(scriptHashes: readonly string[]): string {
  return [
    "default-src 'none'",
    ["script-src 'self'", ...scriptHashes.map((hash) => `'${hash}'`)].join(' '),
    "worker-src 'self'",
    "style-src 'self' 'unsafe-inline'",
    "img-src 'self' data: blob:",
    "connect-src 'self'",
    "base-uri 'none'",
    "form-action 'self'",
    "frame-ancestors 'none'",
  ].join('; ');
}

/**
 * Serves a folder of static pages without authentication. Scripts of this origin run, and inline scripts that are in
 * the file of a page.
 */
export async function servePages(app: FastifyInstance, prefix: string, directory: string): Promise<void> {
  const inline = new InlineScripts(prefix, directory);
  await app.register(async (scope) => {
    openPages(scope, (url) => policyWith(inline.hashesOf(url)));
    await scope.register(fastifyStatic, { root: directory, prefix, cacheControl: false, decorateReply: false });
  });
}

/**
 * Makes the routes of a scope public pages: without authentication, left out of the description, with security headers.
 */
export function openPages(scope: FastifyInstance, policyOf: (url: string) => string): void {
  scope.addHook('onRequest', async (request, reply) => {
    reply.header('content-security-policy', policyOf(request.url));
  });
  scope.addHook('onRoute', (route) => {
    route.config = { ...route.config, open: true };
    route.schema = { ...route.schema, hide: true };
  });
  scope.addHook('onSend', async (_request, reply) => {
    // They are the same for every origin, and caches should know that.
    reply.removeHeader('vary');
    reply.headers({
      'x-content-type-options': 'nosniff',
      'referrer-policy': 'no-referrer',
    });
  });
}
