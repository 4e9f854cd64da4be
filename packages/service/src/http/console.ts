import { join } from 'node:path';
import fastifyStatic from '@fastify/static';
import type { FastifyInstance, FastifyReply } from 'fastify';
import { openPages } from './files.js';

const CONTENT_SECURITY_POLICY = [
  "default-src 'none'",
  "script-src 'self'",
  // The component library writes style elements at run time.
  "style-src 'self' 'unsafe-inline'",
  "img-src 'self' data:",
  "font-src 'self'",
  "connect-src 'self'",
  "base-uri 'none'",
  "form-action 'none'",
  "frame-ancestors 'none'",
].join('; ');

/** Serves the built console: its assets as they are, and its one page for every address within it. */
export async function serveConsole(app: FastifyInstance, directory: string): Promise<void> {
  await app.register(async (scope) => {
    openPages(scope, CONTENT_SECURITY_POLICY);
    await scope.register(fastifyStatic, {
      root: join(directory, 'assets'),
      prefix: '/console/assets/',
      immutable: true,
      maxAge: '365d',
    });
    const sendPage = (_request: unknown, reply: FastifyReply) =>
      reply.header('cache-control', 'no-cache').sendFile('index.html', directory, { cacheControl: false });
    scope.get('/console/favicon.svg', (_request, reply) => reply.sendFile('favicon.svg', directory));
    scope.get('/console/*', sendPage);
    scope.get('/console', (_request, reply) => reply.redirect('/console/'));
    scope.get('/', (_request, reply) => reply.redirect('/console/'));
  });
}
