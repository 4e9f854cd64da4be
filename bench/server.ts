/** A server process for the benchmarks: the service, or a bare baseline. Reports its CPU time and memory on request. */
import { createReadStream, createWriteStream } from 'node:fs';
import { createServer } from 'node:http';
import { join } from 'node:path';
import { WebSocketServer } from 'ws';
import { findDataFault } from '@uproar/core';
import { CollectionName, Data, DocumentId, LIVE_PARAMS, RpcCall } from '@uproar/protocol';
import { openStore, startService } from '@uproar/service';
import Fastify from 'fastify';
import { z } from 'zod';
import { TOKEN_SECRET } from './harness.js';
import { authenticateRequests } from '../packages/service/dist/http/authenticate.js';
import { parseJsonBodies } from '../packages/service/dist/http/body-parser.js';
import { compileCheck } from '../packages/service/dist/http/errors.js';
import { OriginPolicy } from '../packages/service/dist/requests/origin-policy.js';
import { Identities } from '../packages/service/dist/identity/identities.js';
import { RateLimiter } from '../packages/service/dist/identity/rate-limits.js';
import { SignedLinks } from '../packages/service/dist/identity/signed-links.js';
import { Tickets } from '../packages/service/dist/identity/tickets.js';

const [mode, directory] = process.argv.slice(2) as [string, string];

async function start(): Promise<string> {
  if (mode === 'uproar') {
    const { address } = await startService({
      directory,
      host: '127.0.0.1',
      port: 0,
      adminKey: 'bench-key-0123456789',
      tokens: { secret: TOKEN_SECRET },
    });
    return address;
  }
  if (mode === 'checking') return startChecking();
  if (mode === 'checking-socket') return startCheckingSocket();
  if (mode === 'streaming') return startStreaming();
  // The bare server keeps a set of sockets and sends each message that it receives to all of them.
  const server = createServer();
  const sockets = new WebSocketServer({ server, perMessageDeflate: false });
  sockets.on('connection', (socket) => {
    socket.on('message', (data) => {
      for (const other of sockets.clients) other.send(data as Buffer, { binary: false });
    });
  });
  process.on('message', ({ broadcast }: { broadcast?: string }) => {
    if (broadcast === undefined) return;
    const payload = Buffer.from(broadcast);
    for (const socket of sockets.clients) socket.send(payload, { binary: false });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return `http://127.0.0.1:${(server.address() as { port: number }).port}`;
}

/** Writes received messages to the disk, and sends them back. */
async function startStreaming(): Promise<string> {
  const file = join(directory, 'content');
  const server = createServer((request, response) => {
    if (request.method === 'GET') createReadStream(file).pipe(response);
    else request.pipe(createWriteStream(file, { flush: true })).on('close', () => response.end());
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return `http://127.0.0.1:${(server.address() as { port: number }).port}`;
}

/** The same app as ours with one route, which checks what it gets and answers as ours does, but keeps nothing. */
async function startChecking(): Promise<string> {
  const app = Fastify({ logger: false });
  app.setValidatorCompiler<z.ZodType>(compileCheck);
  app.setSerializerCompiler(() => (data) => JSON.stringify(data));
  const store = openStore(directory);
  authenticateRequests(app, {
    identities: new Identities({ store, adminKey: 'bench-key-0123456789', accounts: 'off' }),
    rates: new RateLimiter(),
    tickets: new Tickets(),
    links: new SignedLinks(store.reads),
    originPolicy: new OriginPolicy(),
    sockets: { identify: () => undefined } as never,
  });
  parseJsonBodies(app);
  app.put(
    '/v1/data/:collection/:id',
    { schema: { params: z.object({ collection: CollectionName, id: DocumentId }), body: Data } },
    async (request, reply) => {
      const fault = findDataFault(request.body);
      if (fault) throw new Error(fault.detail);
      const now = new Date().toISOString();
      const { id } = request.params as { id: string };
      const document = { id, version: 1, created: now, updated: now, data: request.body };
      return reply.header('etag', '"1"').type('application/json; charset=utf-8').send(JSON.stringify(document));
    },
  );
  return app.listen({ host: '127.0.0.1', port: 0 });
}

/** A bare WebSocket server that parses commits, validates them with the same declaration, and answers. */
async function startCheckingSocket(): Promise<string> {
  const server = createServer();
  let seq = 0;
  new WebSocketServer({ server, perMessageDeflate: false }).on('connection', (socket) => {
    socket.on('message', (message: Buffer) => {
      const call = RpcCall.parse(JSON.parse(message.toString()));
      const { writes } = LIVE_PARAMS.commit.parse(call.params);
      const documents = writes.map(() => ({ collection: 'balloons', id: 'bl-1', version: ++seq }));
      socket.send(JSON.stringify({ jsonrpc: '2.0', id: call.id, result: { seq, documents } }), { binary: false });
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return `http://127.0.0.1:${(server.address() as { port: number }).port}`;
}

const collectGarbage = () => (globalThis as { gc?: () => void }).gc?.();

process.on('message', ({ ask }: { ask?: string }) => {
  if (ask === 'usage') {
    collectGarbage();
    const { user, system } = process.cpuUsage();
    process.send!({ cpuMs: (user + system) / 1000 });
  } else if (ask === 'memory') {
    // Code that was not used for a while goes only after several collections.
    for (let n = 0; n < 8; n++) collectGarbage();
    const { rss, heapTotal, heapUsed } = process.memoryUsage();
    process.send!({ residentBytes: rss, usedBytes: rss - heapTotal + heapUsed });
  }
});
process.send!({ url: await start() });
