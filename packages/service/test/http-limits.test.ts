import { expect } from 'chai';
import { makeCertificate } from '../../../test/certificate.js';
import { once } from 'node:events';
import { get } from 'node:https';
import { connect, type Socket } from 'node:net';
import { gzipSync } from 'node:zlib';
import { WebSocket } from 'ws';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, temporaryDirectory, TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

const READ_ALL = { anonymous: true, default: { read: true } };

describe('the limits of a service', () => {
  it('count the requests of an identity and say how many are left, in the standard fields', async () => {
    const service = await TestService.start({
      tokens: TOKEN_SETTINGS,
      rateLimits: { identity: { requests: 5, seconds: 60 }, address: { requests: 12, seconds: 60 } },
    });
    await service.setPolicy(READ_ALL);
    const [ada, bo] = [service.as(await makeToken({ sub: 'ada' })), service.as(await makeToken({ sub: 'bo' }))];
    try {
      const answers = [];
      for (let n = 0; n < 6; n++) answers.push(await ada('GET', '/v1/data/flights'));
      expect(answers.map(({ status }) => status)).to.deep.equal([200, 200, 200, 200, 200, 429]);
      expect(answers[1]!.headers.get('ratelimit-policy')).to.equal('"identity";q=5;w=60');
      expect(answers[1]!.headers.get('ratelimit')).to.match(/^"identity";r=3;t=\d+$/);
      expect(Number(answers[5]!.headers.get('retry-after'))).to.be.within(1, 60);
      expect(answers[5]!.json.type).to.equal('/problems/too-many-requests');
      for (let n = 0; n < 5; n++)
        expect((await bo('GET', '/v1/data/flights')).status, 'each has their own').to.equal(200);
      await service.as(null)('GET', '/v1/data/flights');
      expect((await service.as(null)('GET', '/v1/data/flights')).status, 'the address has one, too').to.equal(429);
      expect((await service.request('GET', '/v1/data/flights')).status, 'keys have none').to.equal(200);
      const socket = await RawSocket.open(service);
      await socket.call('hello', { token: KEY });
      for (let n = 0; n < 30; n++) expect(await socket.call('query', { from: 'flights' })).to.have.property('result');
    } finally {
      await service.stop();
    }
  });

  it('count calls over a WebSocket as well', async () => {
    const service = await TestService.start({
      tokens: TOKEN_SETTINGS,
      rateLimits: { identity: { requests: 5, seconds: 60 } },
    });
    await service.setPolicy(READ_ALL);
    try {
      const socket = await RawSocket.open(service);
      await socket.call('hello', { token: await makeToken({ sub: 'ada' }) });
      const answers = [];
      for (let n = 0; n < 9; n++) answers.push(await socket.call('query', { from: 'flights' }));
      const refused = answers.findIndex(({ error }) => error?.data.status === 429);
      expect(refused).to.be.within(4, 7);
      expect(
        answers.slice(refused).every(({ error }) => error),
        'it stays so',
      ).to.equal(true);
    } finally {
      await service.stop();
    }
  });

  it('limit connections, watches and what a query may read', async () => {
    const service = await TestService.start({
      tokens: TOKEN_SETTINGS,
      connectionLimits: { perIdentity: 2, perAddress: 5 },
      accessLimits: { watches: 3, documentsRead: 50 },
    });
    await service.setPolicy(READ_ALL);
    const token = await makeToken({ sub: 'ada' });
    try {
      const sockets = [];
      for (let n = 0; n < 3; n++) sockets.push(await RawSocket.open(service));
      const hellos = [];
      for (const socket of sockets) hellos.push(await socket.call('hello', { token }));
      expect(hellos.map(({ error }) => error?.data.type)).to.deep.equal([
        undefined,
        undefined,
        '/problems/limit-reached',
      ]);
      const [socket] = sockets;
      for (let n = 0; n < 4; n++) {
        const { error } = await socket!.call('watch', { query: { from: 'flights', where: `n = ${n}` } });
        expect(error?.data.type).to.equal(n === 3 ? '/problems/limit-reached' : undefined);
      }
      for (let n = 0; n < 2; n++) await RawSocket.open(service);
      const sixth = new WebSocket(`${service.url.replace('http', 'ws')}/v1/live`);
      const [code] = (await once(sixth, 'close')) as [number];
      expect(code, 'too many from one address').to.equal(1013);
      sockets[1]!.socket.close();
      await until('there is room again', async () => {
        const again = new WebSocket(`${service.url.replace('http', 'ws')}/v1/live`);
        const event = await Promise.race([
          once(again, 'open').then(() => 'open'),
          once(again, 'close').then(() => 'close'),
        ]);
        if (event === 'open') await new Promise((resolve) => setTimeout(resolve, 30));
        return event === 'open' && again.readyState === WebSocket.OPEN;
      });
      const writes = Array.from({ length: 60 }, (_, n) => ({ create: 'flights', data: { n } }));
      await service.request('POST', '/v1/commits', { writes });
      const costly = `/v1/data/flights?where=${encodeURIComponent('n = 900')}&order=n`;
      expect((await service.as(token)('GET', costly)).json).to.include({
        status: 422,
        type: '/problems/query-too-costly',
      });
      expect((await service.request('GET', costly)).status, 'not for keys').to.equal(200);
      expect((await service.as(token)('GET', '/v1/data/flights?limit=10')).status).to.equal(200);
    } finally {
      await service.stop();
    }
  });

  it('refuse pages of other origins on every transport, and admit the configured ones', async () => {
    const service = await TestService.start({ allowedOrigins: ['https://board.test'] });
    try {
      const ask = (origin: string, method = 'GET') =>
        service.request(method, '/v1/collections', undefined, { origin, 'access-control-request-method': 'GET' });
      const good = await ask('https://board.test');
      expect(good.status).to.equal(200);
      expect(good.headers.get('access-control-allow-origin')).to.equal('https://board.test');
      expect(good.headers.get('access-control-expose-headers')).to.include('etag');
      expect(good.headers.get('access-control-expose-headers')).to.include('uproar-stale-since');
      expect((await ask(service.url)).status, 'its own pages').to.equal(200);
      for (const origin of [
        'https://evil.test',
        'null',
        'https://board.test.evil.test',
        'http://board.test',
        'nonsense',
      ]) {
        const { status, headers } = await ask(origin);
        expect([status, headers.get('access-control-allow-origin')], origin).to.deep.equal([403, null]);
      }
      expect((await service.as(null)('GET', '/healthz', undefined, { origin: 'https://evil.test' })).status).to.equal(
        200,
      );
      const signIn = { name: 'ada', password: 'amber-balloon' };
      expect(
        (await service.as(null)('POST', '/v1/sessions', signIn, { origin: 'https://evil.test' })).json.type,
      ).to.equal('/problems/origin-refused');
      const preflight = await service.as(null)('OPTIONS', '/v1/data/x/1', undefined, {
        origin: 'https://board.test',
        'access-control-request-method': 'PATCH',
        'access-control-request-headers': 'authorization,content-type',
      });
      expect(preflight.status).to.equal(204);
      expect(preflight.headers.get('access-control-allow-methods')).to.include('PATCH');
      expect(preflight.headers.get('access-control-allow-headers')).to.include('authorization');
      const refused = new WebSocket(`${service.url.replace('http', 'ws')}/v1/live`, { origin: 'https://evil.test' });
      const [error] = (await once(refused, 'error')) as [Error];
      expect(error.message).to.match(/403/);
      const open = await RawSocket.open(service, { origin: 'https://board.test' });
      expect(await open.call('hello', { token: KEY })).to.have.property('result');
      const { entries } = (await service.request('GET', '/v1/audit?event=refused')).json;
      expect(entries[0].detail).to.include({ problem: 'origin-refused', to: '/v1/live' });
    } finally {
      await service.stop();
    }
  });

  it('send careful headers and the id of the request, which they keep if it is valid', async () => {
    const service = await TestService.start();
    try {
      const { headers } = await service.request('GET', '/v1/collections', undefined, {
        'x-request-id': 'trace-0123456789',
      });
      expect(headers.get('x-request-id')).to.equal('trace-0123456789');
      const strange = await service.request('GET', '/v1/collections', undefined, { 'x-request-id': 'a b;<script>' });
      expect(strange.headers.get('x-request-id')).to.match(/^[0-9a-f-]{36}$/);
      expect(headers.get('content-security-policy')).to.include("default-src 'none'");
      expect(headers.get('x-content-type-options')).to.equal('nosniff');
      expect(headers.get('x-frame-options')).to.equal('DENY');
    } finally {
      await service.stop();
    }
  });

  it('speak TLS with a certificate, and take the word of a trusted proxy on addresses', async () => {
    const directory = temporaryDirectory();
    const { cert, key } = makeCertificate(directory.path);
    const service = await TestService.start({
      tls: { cert, key },
      trustedProxies: ['127.0.0.1'],
    });
    try {
      expect(service.url).to.match(/^https:/);
      const headers = { authorization: `Bearer ${KEY}x`, 'x-forwarded-for': '192.0.2.7' };
      const ask = (more: Record<string, string> = {}) =>
        new Promise((resolve, reject) => {
          get(
            `${service.url}/v1/collections`,
            { ca: cert, checkServerIdentity: () => undefined, headers: { ...headers, ...more } },
            (response) => {
              response.resume();
              resolve([response.statusCode, response.headers['strict-transport-security'] !== undefined]);
            },
          ).on('error', reject);
        });
      expect(await ask()).to.deep.equal([401, true]);
      // The offer of another protocol is ignored here, too.
      expect(await ask({ connection: 'upgrade', upgrade: 'h2c' })).to.deep.equal([401, true]);
      expect((await service.service.identities.audit.list(1e9, 1))[0]).to.include({ address: '192.0.2.7' });
    } finally {
      await service.stop();
      directory.remove();
    }
  });
});

/** The text of a request, or of its beginning, line by line. */
const requestText = (start: string, ...lines: string[]) => [`${start} HTTP/1.1`, 'Host: x', ...lines].join('\r\n');

describe('a hostile client', () => {
  let service: TestService;
  let token: string;
  before(async () => {
    service = await TestService.start({
      tokens: TOKEN_SETTINGS,
      accounts: 'open',
      timeouts: { headersMs: 700, requestMs: 1000 },
      commitLimits: { sizeBytes: 64 * 1024 },
    });
    await service.setPolicy({ ...READ_ALL, collections: { flights: { read: "owner = claim('sub')", create: true } } });
    await service.request('PUT', '/v1/data/flights/secret', { owner: 'dora', text: 'the secret' });
    token = await makeToken({ sub: 'ada' });
  });
  after(() => service.stop());

  /** Other clients are served during the attack, with pauses that a person would hardly notice. */
  const staysResponsive = async (during: () => Promise<unknown>) => {
    let slowest = 0;
    let over = false;
    const others = (async () => {
      while (!over) {
        const started = performance.now();
        expect((await service.request('GET', '/v1/data/flights/secret')).status).to.equal(200);
        slowest = Math.max(slowest, performance.now() - started);
        await new Promise((resolve) => setTimeout(resolve, 20));
      }
    })();
    await during().finally(() => (over = true));
    await others;
    expect(slowest, 'milliseconds until another client was served').to.be.below(1000);
  };
  const raw = (): Promise<Socket> => {
    const { hostname, port } = new URL(service.url);
    const socket = connect(Number(port), hostname);
    socket.on('error', () => undefined);
    return new Promise((resolve) => socket.once('connect', () => resolve(socket)));
  };
  const untilClosed = (socket: Socket) =>
    new Promise<string>((resolve) => {
      let text = '';
      socket.on('data', (data: Buffer) => (text += data.toString('latin1')));
      socket.on('close', () => resolve(text));
    });

  it('finds nothing by text put into conditions, orders, fields, ids, collections and claims', async () => {
    const texts = [
      "' OR 1=1 --",
      "'; DROP TABLE documents; --",
      "x' UNION SELECT data FROM documents --",
      '"); DELETE FROM keys; --',
      'TRUE) OR (TRUE',
      '\0',
      '{{7*7}}',
      '$where: 1',
      '../../etc/passwd',
      '%00',
      '<script>alert(1)</script>',
    ];
    const ask = service.as(token);
    for (const text of texts) {
      const encoded = encodeURIComponent(text);
      for (const path of [
        `/v1/data/flights?where=${encoded}`,
        `/v1/data/flights?where=${encodeURIComponent(`owner = '${text.replaceAll("'", "''")}'`)}`,
        `/v1/data/flights?order=${encoded}`,
        `/v1/data/flights?fields=${encoded}`,
        `/v1/data/flights?after=${encoded}`,
        `/v1/data/flights?limit=${encoded}`,
        `/v1/data/flights/${encoded}`,
        `/v1/data/${encoded}`,
        `/v1/journal?where=${encoded}`,
        `/v1/journal?doc=${encoded}`,
      ]) {
        const { status, text: answer } = await ask('GET', path);
        expect(status, path).to.be.below(500);
        expect(answer, path).not.to.include('the secret');
      }
      const claimed = service.as(await makeToken({ sub: text }));
      expect((await claimed('GET', '/v1/data/flights')).json.documents).to.deep.equal([]);
      expect((await service.as(null)('POST', '/v1/sessions', { name: text, password: text })).status).to.be.within(
        400,
        429,
      );
    }
    expect((await service.request('GET', '/v1/data/flights/secret')).status, 'all is still there').to.equal(200);
  });

  it('gets nowhere by tricks with paths and prototypes', async () => {
    for (const path of [
      '/v1/data/flights/..%2fflights%2fsecret',
      '/v1/data/./flights/secret',
      '/v1/data/flights/%2e%2e/secret',
      '//v1/data/flights/secret',
      '/v1/data/flights%00/secret',
      '/v1/data/flights/secret%20',
      '/V1/data/flights/secret',
      '/console/..%2f..%2fpackage.json',
      '/client/../../package.json',
    ]) {
      const socket = await raw();
      const closed = untilClosed(socket);
      socket.write(requestText(`GET ${path}`, `Authorization: Bearer ${token}`, 'Connection: close', '', ''));
      const answer = await closed;
      expect(answer, path)
        .to.match(/^HTTP\/1\.1 [34]\d\d/)
        .and.not.match(/the secret|"workspaces"/);
    }
    const polluted = '{"__proto__":{"polluted":true},"constructor":{"prototype":{"polluted":true}},"owner":"ada"}';
    expect((await service.as(token)('PUT', '/v1/data/flights/p-1', polluted)).status).to.equal(201);
    expect(({} as { polluted?: boolean }).polluted).to.equal(undefined);
    expect((await service.as(token)('GET', '/v1/data/flights/p-1')).text).to.include('"__proto__":{"polluted":true}');
    const claims = await makeToken(
      JSON.parse('{"sub":"eve","__proto__":{"owner":"dora"}}') as object as Record<string, unknown>,
    );
    expect((await service.as(claims)('GET', '/v1/data/flights')).json.documents).to.deep.equal([]);
    const form = '{"collections":{"__proto__":{"read":true}}}';
    expect((await service.request('PUT', '/v1/policy', { text: form, dryRun: true })).status).to.equal(422);
  });

  it('is cut off when it floods with headers, bodies and frames, or sends them too slowly', () =>
    staysResponsive(async () => {
      const headers = await raw();
      const headersClosed = untilClosed(headers);
      headers.write(requestText('GET /', ...Array.from({ length: 4000 }, () => `X-Flood: ${'a'.repeat(26)}`), '', ''));
      expect(await headersClosed).to.match(/431|^$/);

      const body = await service.as(token)('POST', '/v1/commits', `{"writes":[${' '.repeat(200_000)}]}`);
      expect(body.json).to.include({ status: 413 });

      const frames = await RawSocket.open(service);
      frames.socket.on('error', () => undefined);
      const [code] = (await Promise.all([
        once(frames.socket, 'close'),
        new Promise((resolve) => frames.socket.send('x'.repeat(200_000), resolve)),
      ]).then(([closed]) => closed)) as [number];
      expect(code, 'a message that is too large').to.equal(1009);

      const slow = await raw();
      const slowClosed = untilClosed(slow);
      slow.write(requestText('POST /v1/data/flights', ''));
      const dripping = setInterval(() => slow.write('X-Drip: 1\r\n'), 100);
      const said = await slowClosed;
      clearInterval(dripping);
      expect(said).to.match(/408|^$/);

      const silent = await RawSocket.open(service);
      expect(silent.socket.readyState).to.equal(WebSocket.OPEN);
      silent.socket.terminate();

      const many = await Promise.all(Array.from({ length: 300 }, raw));
      for (const socket of many) socket.write('GET /v1/data/flights HTTP/1.1\r\nHo');
      await Promise.all(many.map(untilClosed));

      const { entries } = (await service.request('GET', '/v1/audit?event=refused&limit=1000')).json;
      const noted = entries.map(({ detail }: { detail: object }) => Object.values(detail).join(' ')).join('\n');
      for (const what of [/HPE_HEADER_OVERFLOW/, /ERR_HTTP_REQUEST_TIMEOUT/, /too-large/, /\/v1\/live Max payload/])
        expect(noted).to.match(what);
    }));

  it('is not decompressed', async () => {
    const bomb = gzipSync(Buffer.alloc(20_000_000, ' '));
    const answer = await service.as(token)('POST', '/v1/query', bomb, { 'content-encoding': 'gzip' });
    expect(answer.json).to.include({ status: 415, parameter: 'Content-Encoding' });
    const socket = new WebSocket(`${service.url.replace('http', 'ws')}/v1/live`, { perMessageDeflate: true });
    await once(socket, 'open');
    expect(socket.extensions, 'no compression is agreed').to.equal('');
    socket.terminate();
  });

  it('resists password guessing, without delaying others', async () => {
    await service.as(null)('POST', '/v1/accounts', { name: 'victim', password: 'green-balloon' });
    const statuses = new Map<number, number>();
    await staysResponsive(async () => {
      let left = 500;
      const guess = async () => {
        while (left-- > 0) {
          const { status } = await service.as(null)('POST', '/v1/sessions', {
            name: 'victim',
            password: `guess-${left}`,
          });
          statuses.set(status, (statuses.get(status) ?? 0) + 1);
        }
      };
      await Promise.all(Array.from({ length: 20 }, guess));
    });
    expect([...statuses.keys()].sort()).to.deep.equal([401, 429]);
    expect(statuses.get(401), 'passwords that were read').to.be.below(60);
    const noted = (await service.request('GET', '/v1/audit?event=sign-in-failed')).json.entries;
    expect(noted.reduce((sum: number, { count }: { count: number }) => sum + count, 0)).to.be.at.least(10);
  });

  it('cannot use a ticket twice, nor fill the audit log', async () => {
    const { ticket } = (await service.as(token)('POST', '/v1/tickets')).json;
    const uses = await Promise.all(
      Array.from({ length: 10 }, () => service.as(null)('GET', `/v1/data/flights?ticket=${ticket}`)),
    );
    expect(uses.filter(({ status }) => status === 200)).to.have.length(1);
    for (let n = 0; n < 50; n++) await service.as(token)('DELETE', '/v1/data/flights/p-1');
    const { entries } = (await service.request('GET', '/v1/audit?event=refused')).json;
    const same = entries.filter(({ detail }: { detail: { to: string } }) => detail.to.startsWith('DELETE'));
    expect([same.length, same[0].count]).to.deep.equal([1, 50]);
  });
});
