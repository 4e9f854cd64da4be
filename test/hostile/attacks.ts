import { request as httpRequest, type IncomingMessage, type RequestOptions } from 'node:http';
import { connect as connectTcp, type Socket } from 'node:net';
import { gzipSync } from 'node:zlib';
import { WebSocket, type ClientOptions } from 'ws';

/** Where the attacks come from: another address than that of the observed clients. */
const FROM = '127.0.0.2';

/** What an attack works with. It goes on until it is ended from outside; what it opens, it leaves open. */
export interface Target {
  url: string;
  host: string;
  port: number;
}

/** What a hostile or clumsy client does, again and again. */
export interface Attack {
  about: string;
  run(target: Target): Promise<void>;
}

const sleep = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

/** Makes a request; the answer is not read unless `read` says so. */
function ask(
  { host, port }: Target,
  path: string,
  options: RequestOptions & { body?: string | Buffer; read?: boolean } = {},
): Promise<IncomingMessage | undefined> {
  const { body, read = false, ...more } = options;
  return new Promise((resolve) => {
    const request = httpRequest({ host, port, path, localAddress: FROM, agent: false, ...more }, (response) => {
      if (read) response.resume().on('end', () => resolve(response));
      else resolve(response);
      response.on('error', () => resolve(undefined));
    });
    request.on('error', () => resolve(undefined));
    request.end(body);
  });
}

function post(target: Target, path: string, body: unknown, headers: Record<string, string> = {}) {
  const text = typeof body === 'string' ? body : JSON.stringify(body);
  return ask(target, path, {
    method: 'POST',
    headers: { 'content-type': 'application/json', ...headers },
    body: text,
    read: true,
  });
}

function open({ host, port }: Target): Socket {
  const socket = connectTcp({ host, port, localAddress: FROM });
  socket.on('error', () => undefined);
  return socket;
}

async function openWebSocket({ url }: Target, hello = true): Promise<WebSocket> {
  const socket = new WebSocket(`${url.replace('http', 'ws')}/v1/live`, { localAddress: FROM } as ClientOptions);
  socket.on('error', () => undefined);
  await new Promise((resolve) => socket.once('open', resolve).once('close', resolve));
  if (hello) call(socket, 'hello', {});
  return socket;
}

let lastId = 0;
function call(socket: WebSocket, method: string, params: unknown): void {
  if (socket.readyState === socket.OPEN) socket.send(JSON.stringify({ jsonrpc: '2.0', id: ++lastId, method, params }));
}

/** Does something over and over, so many times side by side. */
async function forever(sideBySide: number, act: (turn: number) => Promise<unknown>): Promise<void> {
  let turn = 0;
  await Promise.all(
    Array.from({ length: sideBySide }, async () => {
      for (;;) {
        await act(turn++);
        await sleep(5);
      }
    }),
  );
}

/** A request as it goes over the wire (RFC 9112, section 2.1). */
const requestText = (...lines: string[]) => [...lines, '', ''].join('\r\n');
const UPGRADE = [
  'Connection: Upgrade',
  'Upgrade: websocket',
  'Sec-WebSocket-Version: 13',
  'Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==',
];

const query = (parts: object) => ({ from: 'spectators', ...parts });
const HEAVY = {
  parts: Array(1500).fill("part(text,'a',-1)='x'").join(' OR '),
  foldings: Array(500).fill("ACCENTI(CASEI(text)) = 'x'").join(' OR '),
  pattern: `text LIKE '%${'ab'.repeat(2000)}x%'`,
  shapes: 'S_INTERSECTS(shape, other)',
};

/** All attacks, by their names. */
export const ATTACKS: Record<string, Attack> = {
  'csv-aborted': {
    about: 'CSV exports that are closed after the first bytes',
    run: (target) =>
      forever(6, async () => {
        const response = await ask(target, '/v1/data/spectators?limit=none', { headers: { accept: 'text/csv' } });
        response?.once('data', () => response.destroy());
        await sleep(50);
      }),
  },
  'ndjson-unread': {
    about: '40 NDJSON exports that are never read',
    run: async (target) => {
      for (let n = 0; n < 40; n++) {
        const response = await ask(target, '/v1/data/spectators?limit=none', {
          headers: { accept: 'application/x-ndjson' },
        });
        response?.pause();
      }
      await sleep(1e9);
    },
  },
  'include-large': {
    about: '4,000 documents that each include one of 1 MB',
    run: (target) =>
      forever(4, (turn) =>
        post(
          target,
          '/v1/query',
          { from: 'refs', include: 'big = large via big', limit: turn % 2 ? 4000 : 'none' },
          turn % 2 ? {} : { accept: 'text/event-stream' },
        ),
      ),
  },
  'include-fan-out': {
    about: 'includes with a fan-out of 100,000',
    run: (target) =>
      forever(4, () =>
        post(target, '/v1/query', { from: 'gates', include: 'spectators by gate limit 1000', limit: 4000 }),
      ),
  },
  'journal-unread': {
    about: 'the journal of large commits, as streams that are not read and as large pages',
    run: async (target) => {
      for (let n = 0; n < 20; n++) {
        const stream = await ask(target, '/v1/journal?after=0', { headers: { accept: 'text/event-stream' } });
        stream?.pause();
      }
      await forever(3, () => ask(target, '/v1/journal?after=0&limit=10000', { read: true }));
    },
  },
  'patch-alternating': {
    about: 'JSON Patches of 1,000 operations on a list of 500,000 numbers, four in a commit',
    run: (target) => {
      const ops = Array.from({ length: 1000 }, (_, at) =>
        at % 2 === 0 ? { op: 'copy', from: '/a/1', path: '/a/0' } : { op: 'remove', path: '/a/0' },
      );
      const writes = Array.from({ length: 4 }, () => ({ patch: 'lists/numbers', ops }));
      return forever(4, () => post(target, '/v1/commits', { writes }));
    },
  },
  'commit-amplified': {
    about: 'commits of 10,000 small changes to one document of 1 MB',
    run: (target) => {
      const writes = Array.from({ length: 10_000 }, (_, n) => ({ merge: 'large/l-1', data: { n } }));
      return forever(2, () => post(target, '/v1/commits', { writes }));
    },
  },
  conditions: {
    about: 'conditions with 1,500 parts, foldings, patterns and shapes over long texts',
    run: (target) => {
      const all = Object.values(HEAVY);
      return forever(6, (turn) => post(target, '/v1/query', { from: 'heavy', where: all[turn % all.length] }));
    },
  },
  'watch-conditions': {
    about: 'the same conditions watched, over documents that change all the time',
    run: async (target) => {
      const socket = await openWebSocket(target);
      for (let n = 0; n < 200; n++) {
        const where = `(${Object.values(HEAVY)[n % 4]}) OR n = ${n}`;
        call(socket, 'watch', { query: { from: 'heavy', where, limit: 'none' } });
      }
      await forever(2, (turn) =>
        post(target, '/v1/commits', { writes: [{ merge: `heavy/h-${turn % 3}`, data: { turn } }] }),
      );
    },
  },
  'frames-unfinished': {
    about: '100 WebSockets without a key, each with 15 MiB of a message that does not end',
    run: async (target) => {
      const part = Buffer.alloc(64 * 1024, 0x61);
      await Promise.all(
        Array.from({ length: 100 }, async () => {
          const socket = open(target);
          socket.resume();
          socket.write(requestText('GET /v1/live HTTP/1.1', `Host: ${target.host}`, ...UPGRADE));
          await sleep(200);
          // A text frame of 16 MiB with a mask of zeros (RFC 6455, section 5.2).
          socket.write(Buffer.from([0x81, 0xff, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0]));
          for (let sent = 0; sent < 15 * 16 && !socket.destroyed; sent++) {
            if (!socket.write(part))
              await new Promise((resolve) => socket.once('drain', resolve).once('close', resolve));
          }
        }),
      );
      await sleep(1e9);
    },
  },
  'answers-unread': {
    about: '300 requests for 10,000 documents whose answers are never read',
    run: async (target) => {
      for (let round = 0; round < 30; round++) {
        for (let n = 0; n < 10; n++) {
          const socket = open(target);
          socket.pause();
          socket.write(requestText('GET /v1/data/spectators?limit=10000 HTTP/1.1', `Host: ${target.host}`));
        }
        await sleep(50);
      }
      await sleep(1e9);
    },
  },
  'queries-pipelined': {
    about: '400 queries in one go on a WebSocket that is not read',
    run: (target) =>
      forever(2, async () => {
        const socket = await openWebSocket(target);
        await sleep(100);
        socket.pause();
        for (let n = 0; n < 400; n++) call(socket, 'query', query({ limit: 10_000, where: `n <> ${n}` }));
        await sleep(3000);
        socket.terminate();
      }),
  },
  'sockets-idle': {
    about: '5,000 connections that never ask',
    run: async (target) => {
      for (let round = 0; round < 50; round++) {
        for (let n = 0; n < 100; n++) open(target);
        await sleep(20);
      }
      await sleep(1e9);
    },
  },
  'messages-too-large': {
    about: 'commits over a WebSocket that are larger than may be',
    run: (target) =>
      forever(3, async () => {
        const socket = await openWebSocket(target);
        const data = { text: 'x'.repeat(20 * 1024 * 1024) };
        call(socket, 'commit', { writes: [{ put: 'large/x', data }] });
        await sleep(500);
        socket.terminate();
      }),
  },
  summaries: {
    about: 'summaries with a group for every document',
    run: (target) =>
      forever(6, () => post(target, '/v1/query', { from: 'spectators', summary: 'count(),max(n)', by: 'name' })),
  },
  'sorts-unindexed': {
    about: 'queries in an order that no index gives, with conditions that find nothing',
    run: (target) =>
      forever(20, (turn) =>
        post(target, '/v1/query', query({ order: '-name', limit: 10_000, where: `name LIKE '%${turn}x%'` })),
      ),
  },
  'resets-storm': {
    about: 'watches resumed from old and from forged points',
    run: (target) =>
      forever(10, async (turn) => {
        const socket = await openWebSocket(target);
        for (let n = 0; n < 20; n++) {
          const resume = `${(turn * 20 + n).toString(36)}.${n % 2 ? 'forged0000' : ''}`;
          call(socket, 'watch', { query: query({ where: `n > ${n}`, limit: 1000 }), resume });
        }
        await sleep(100);
        socket.terminate();
      }),
  },
  'watches-come-and-go': {
    about: 'thousands of watches that are begun and ended at once',
    run: (target) =>
      forever(4, async (turn) => {
        const socket = await openWebSocket(target);
        for (let n = 0; n < 450; n++) {
          call(socket, 'watch', { query: query({ where: `n = ${turn * 450 + n}`, order: 'name', limit: 5 }) });
        }
        await sleep(300);
        socket.terminate();
      }),
  },
  'cursors-forged': {
    about: 'invented cursors, some of them long',
    run: (target) =>
      forever(8, (turn) => {
        const after = Buffer.from(JSON.stringify(['', turn % 2 ? 'x'.repeat(9000) : `s-${turn}`])).toString(
          'base64url',
        );
        return ask(target, `/v1/data/spectators?after=${after}&limit=10`, { read: true });
      }),
  },
  'bodies-packed': {
    about: 'bodies that are packed, and would unpack to 200 MB',
    run: (target) => {
      const body = gzipSync(Buffer.alloc(200 * 1024 * 1024, 0x20));
      const headers = { 'content-type': 'application/json', 'content-encoding': 'gzip' };
      return forever(4, () => ask(target, '/v1/commits', { method: 'POST', headers, body, read: true }));
    },
  },
  'ranges-flood': {
    about: 'parts of a file, many at a time, hardly read',
    run: (target) =>
      forever(40, async (turn) => {
        const headers = { range: `bytes=${turn % 1000}-${5_000_000 + (turn % 1000)}` };
        const response = await ask(target, '/v1/files/film/content', { headers });
        response?.once('data', () => response.destroy());
        await sleep(20);
      }),
  },
  'requests-flood': {
    about: 'small requests, as many as go through',
    run: (target) => forever(100, (turn) => ask(target, `/v1/data/spectators/s-${turn % 100}`, { read: true })),
  },
};
