import { randomBytes } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import fastifyStatic from '@fastify/static';
import type { FastifyInstance, FastifyReply } from 'fastify';
import { openPages } from './static-files.js';

/** Everything comes from here; style elements that the component library writes at run time carry the nonce of their page. */
const contentSecurityPolicy = (nonce: string) =>
  [
    "default-src 'none'",
    "script-src 'self'",
    `style-src 'self' 'nonce-${nonce}'`,
    "img-src 'self' data:",
    "font-src 'self'",
    "connect-src 'self'",
    "base-uri 'none'",
    "form-action 'none'",
    "frame-ancestors 'none'",
  ].join('; ');

/** Where the page takes its nonce from. */
const NONCE_MARK = '%NONCE%';

/** Serves the built console: its assets as they are, and its one page for every address within it. */
export async function serveConsole(app: FastifyInstance, directory: string): Promise<void> {
  await app.register(async (scope) => {
    const page = readFileSync(join(directory, 'index.html'), 'utf8');
    openPages(scope, () => contentSecurityPolicy(''));
    await scope.register(fastifyStatic, {
      root: join(directory, 'assets'),
      prefix: '/console/assets/',
      immutable: true,
      maxAge: '365d',
    });
    const sendPage = (_request: unknown, reply: FastifyReply) => {
      const nonce = randomBytes(16).toString('base64');
      return reply
        .header('cache-control', 'no-store')
        .header('content-security-policy', contentSecurityPolicy(nonce))
        .type('text/html; charset=utf-8')
        .send(page.replaceAll(NONCE_MARK, nonce));
    };
    scope.get('/console/favicon.svg', (_request, reply) => reply.sendFile('favicon.svg', directory));
    scope.get('/console/*', sendPage);
    scope.get('/console', (_request, reply) => reply.redirect('/console/'));
    scope.get('/', (_request, reply) => reply.redirect('/console/'));
  });
}
