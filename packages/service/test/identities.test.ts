import { expect } from 'chai';
import { createHmac, generateKeyPairSync } from 'node:crypto';
import { Agent, createServer, get, request, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { exportJWK, SignJWT, type CryptoKey, type JWK } from 'jose';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SECRET, TOKEN_SETTINGS } from '../../../test/tokens.js';

describe('the audit log', () => {
  it('lists entries that are being written', async () => {
    const service = await TestService.start();
    const { audit } = service.service.identities;
    audit.add({ event: 'sign-in', identity: 'account:ada' });
    const writing = audit.flush();
    expect((await audit.list(1e9, 10)).map(({ event }) => event)).to.deep.equal(['sign-in']);
    await writing;
    await service.stop();
  });
});

describe('keys', () => {
  let service: TestService;
  before(async () => {
    service = await TestService.start();
    await service.request('PUT', '/v1/data/gates/g-1', { count: 1 });
    await service.request('PUT', '/v1/data/crews/c-1', { name: 'Amber' });
  });
  after(() => service.stop());
  const create = async (form: object) => (await service.request('POST', '/v1/keys', form)).json;

  it('do what their scope says, in the collections they are for', async () => {
    const reader = service.as((await create({ name: 'board', scope: 'read' })).key);
    const gate = service.as((await create({ name: 'gate', scope: 'write', collections: ['gates'] })).key);
    expect((await reader('GET', '/v1/data/gates/g-1')).status).to.equal(200);
    expect((await reader('PATCH', '/v1/data/gates/g-1', { count: 2 })).json).to.include({
      status: 403,
      rule: 'update',
    });
    expect((await gate('PATCH', '/v1/data/gates/g-1', { count: 2 })).status).to.equal(200);
    expect((await gate('GET', '/v1/data/crews')).json).to.include({ status: 403 });
    expect((await gate('GET', '/v1/data/crews/c-1')).status).to.equal(403);
    expect((await gate('PUT', '/v1/data/crews/c-2', {})).status).to.equal(403);
    expect((await gate('GET', '/v1/collections')).json.documents.map(({ id }: { id: string }) => id)).to.deep.equal([
      'gates',
    ]);
    const { events } = (await gate('GET', '/v1/journal')).json;
    expect(events.map(({ subject }: { subject: string }) => subject)).to.deep.equal(['gates/g-1', 'gates/g-1']);
    expect((await gate('GET', '/v1/keys')).json.type).to.equal('/problems/admin-only');
  });

  it('are listed with their last use and never shown again, and names are not given twice', async () => {
    const { key } = await create({ name: 'tower', scope: 'admin' });
    await service.as(key)('GET', '/v1/collections');
    const { json, text } = await service.request('GET', '/v1/keys');
    const tower = json.keys.find(({ name }: { name: string }) => name === 'tower');
    expect(tower).to.include({ scope: 'admin' });
    expect(Date.now() - Date.parse(tower.used)).to.be.within(0, 10_000);
    expect(text).not.to.include(key);
    expect((await create({ name: 'tower', scope: 'read' })).type).to.equal('/problems/key-exists');
    expect(await create({ name: 'x', scope: 'god' })).to.include({ status: 400, pointer: '/scope' });
    await service.restart();
    expect((await service.as(key)('GET', '/v1/keys')).status, 'kept').to.equal(200);
  });

  it('are checked for each request, also when a connection has sent another one before', async () => {
    const [writer, reader] = [
      await create({ name: 'one', scope: 'write' }),
      await create({ name: 'two', scope: 'read' }),
    ];
    const agent = new Agent({ keepAlive: true, maxSockets: 1 });
    const sockets = new Set<unknown>();
    const put = (key: string) =>
      new Promise<number>((resolve, reject) => {
        const headers = { authorization: `Bearer ${key}`, 'content-type': 'application/json' };
        const sent = request(`${service.url}/v1/data/gates/g-1`, { method: 'PUT', agent, headers }, (answer) => {
          sockets.add(answer.socket);
          answer.resume().on('end', () => resolve(answer.statusCode!));
        });
        sent.on('error', reject).end('{"count":1}');
      });
    const statuses: number[] = [];
    for (const key of [writer.key, writer.key, reader.key, `${writer.key.slice(0, -1)}!`, writer.key]) {
      statuses.push(await put(key as string));
    }
    await service.request('DELETE', '/v1/keys/one');
    statuses.push(await put(writer.key as string));
    agent.destroy();
    expect(statuses).to.deep.equal([200, 200, 403, 401, 200, 401]);
    expect(sockets.size, 'one connection').to.equal(1);
  });

  it('end with the connections made with them when they are revoked, rotated, or run out', async () => {
    const first = await create({ name: 'device', scope: 'write' });
    const brief = await create({ name: 'brief', scope: 'read', expires: new Date(Date.now() + 700).toISOString() });
    const [one, two] = [await RawSocket.open(service), await RawSocket.open(service)];
    await one.call('hello', { token: first.key });
    await two.call('hello', { token: brief.key });
    for (const socket of [one, two]) await socket.call('watch', { query: { from: 'gates' } });
    const rotated = (await service.request('POST', '/v1/keys/device/rotate', { keepOldSeconds: 60 })).json;
    expect((await service.as(first.key)('GET', '/v1/data/gates')).status, 'for a while').to.equal(200);
    expect((await service.as(rotated.key)('GET', '/v1/data/gates')).status).to.equal(200);
    const again = (await service.request('POST', '/v1/keys/device/rotate', {})).json;
    expect((await service.as(rotated.key)('GET', '/v1/data/gates')).status).to.equal(401);
    await until('the connection of the old key has ended', () => one.heard.some(({ method }) => method === 'end'));
    expect((await one.call('get', { doc: 'gates/g-1' })).error.data.status).to.equal(401);
    await until('the brief one has run out', () => two.heard.some(({ method }) => method === 'end'));
    expect((await service.request('DELETE', '/v1/keys/device')).status).to.equal(204);
    expect((await service.as(again.key)('GET', '/v1/data/gates')).json.type).to.equal('/problems/key-unknown');
    expect((await service.request('DELETE', '/v1/keys/device')).json.type).to.equal('/problems/no-such-key');
    const { entries } = (await service.request('GET', '/v1/audit')).json;
    const events = entries.map(({ event }: { event: string }) => event);
    expect(events).to.include.members(['key-created', 'key-rotated', 'key-revoked', 'not-recognised']);
    expect(JSON.stringify(entries)).not.to.match(/uproar-[\w-]{20}/);
  });
});

describe('tokens', () => {
  it('are refused unless all about them is right, each with the reason', async () => {
    const service = await TestService.start({ tokens: TOKEN_SETTINGS });
    await service.setPolicy({ default: { read: "claim('sub') = 'ada'" } });
    const ask = async (token: string) => (await service.as(token)('GET', '/v1/data/flights')).json;
    const part = (value: unknown) => Buffer.from(JSON.stringify(value)).toString('base64url');
    const now = Math.floor(Date.now() / 1000);
    const body = { iss: TOKEN_SETTINGS.issuer, aud: TOKEN_SETTINGS.audience, sub: 'ada', exp: now + 600 };
    const unsigned = `${part({ alg: 'none' })}.${part(body)}.`;
    const hs512 = `${part({ alg: 'HS512' })}.${part(body)}`;
    const good = await makeToken({ sub: 'ada' });
    try {
      expect(await ask(good)).to.have.property('documents');
      expect(await ask(await makeToken({ sub: 'ada' }, -20)), 'within the leeway').to.have.property('documents');
      const cases: [string, string, RegExp][] = [
        [await makeToken({ sub: 'ada' }, -60), 'token-expired', /expired at 20/],
        [await makeToken({ sub: 'ada', aud: 'other' }), 'token-invalid', /"aud".*"festival"/],
        [await makeToken({ sub: 'ada', iss: 'https://evil.test' }), 'token-invalid', /"iss"/],
        [await makeToken({ sub: 'ada', nbf: now + 600 }), 'token-invalid', /"nbf"/],
        [await makeToken({}), 'token-invalid', /"sub"/],
        [await makeToken({ sub: '' }), 'token-invalid', /"sub"/],
        [await makeToken({ sub: 'ada', exp: undefined }), 'token-invalid', /"exp"/],
        [
          await makeToken({ sub: 'ada' }, 600, 'another secret, also longer than 32 bytes'),
          'token-invalid',
          /signature/,
        ],
        [good.slice(0, -4) + (good.endsWith('AAAA') ? 'BBBB' : 'AAAA'), 'token-invalid', /signature/],
        [unsigned, 'token-invalid', /none.*HS256/],
        [`${hs512}.${createHmac('sha512', TOKEN_SECRET).update(hs512).digest('base64url')}`, 'token-invalid', /HS512/],
        ['eyJhbGciOiJIUzI1NiJ9.e30.', 'token-invalid', /.+/],
      ];
      for (const [token, name, detail] of cases) {
        const problem = await ask(token);
        expect(problem.type, token).to.equal(`/problems/${name}`);
        expect(problem.detail).to.match(detail);
      }
    } finally {
      await service.stop();
    }
  });

  describe('verified by public keys', () => {
    let issuer: Server;
    let keys: JWK[] = [];
    let asked = 0;
    let down = false;
    let service: TestService;
    const make = async (alg: string, kid: string) => {
      const { publicKey, privateKey } =
        alg === 'RS256'
          ? generateKeyPairSync('rsa', { modulusLength: 2048 })
          : alg === 'ES256'
            ? generateKeyPairSync('ec', { namedCurve: 'P-256' })
            : generateKeyPairSync('ed25519');
      keys.push({ ...(await exportJWK(publicKey)), kid, alg });
      const sign = (claims: object) =>
        new SignJWT({ iss: 'https://id.test', aud: 'festival', ...claims })
          .setProtectedHeader({ alg, kid })
          .setExpirationTime('10m')
          .sign(privateKey as unknown as CryptoKey);
      return { sign, publicKey };
    };
    before(async () => {
      issuer = createServer((_request, response) => {
        asked++;
        if (down) return void response.writeHead(500).end();
        response.setHeader('content-type', 'application/json').end(JSON.stringify({ keys }));
      });
      await new Promise<void>((resolve) => issuer.listen(0, '127.0.0.1', resolve));
      const keysUrl = `http://127.0.0.1:${(issuer.address() as AddressInfo).port}/keys.json`;
      service = await TestService.start({ tokens: { keysUrl, issuer: 'https://id.test', audience: 'festival' } });
      await service.setPolicy({ default: { read: true } });
    });
    after(async () => {
      await service.stop();
      issuer.close();
    });
    const ask = async (token: string) => (await service.as(token)('GET', '/v1/data/flights')).json;

    it('are accepted with each algorithm, and the key is fetched once', async () => {
      down = true;
      const early = await make('RS256', 'r-1');
      expect((await ask(await early.sign({ sub: 'ada' }))).type).to.equal('/problems/jwks-unavailable');
      down = false;
      const signers = [early, await make('ES256', 'e-1'), await make('EdDSA', 'd-1')];
      asked = 0;
      for (let round = 0; round < 3; round++)
        for (const { sign } of signers) expect(await ask(await sign({ sub: 'ada' }))).to.have.property('documents');
      expect(asked).to.equal(1);
    });

    it('are not taken when the public key was used as a secret, or the key is not published', async () => {
      const { publicKey } = await make('RS256', 'r-2');
      const pem = publicKey.export({ type: 'spki', format: 'pem' }).toString();
      const forged = await new SignJWT({ sub: 'ada', iss: 'https://id.test', aud: 'festival' })
        .setProtectedHeader({ alg: 'HS256', kid: 'r-2' })
        .setExpirationTime('10m')
        .sign(new TextEncoder().encode(pem));
      expect((await ask(forged)).detail).to.match(/HS256.*RS256, ES256, EdDSA/);
      const stranger = await make('ES256', 'e-9');
      keys = keys.filter(({ kid }) => kid !== 'e-9');
      const problem = await ask(await stranger.sign({ sub: 'ada' }));
      expect(problem).to.include({ type: '/problems/token-invalid' });
      expect(problem.detail).to.match(/does not publish/);
    });
  });

  it('need sound settings', async () => {
    const start = (tokens: object) =>
      TestService.start({ tokens }).then(
        (started) => started.stop().then(() => 'started'),
        (error: Error) => error.message,
      );
    expect(await start({ secret: 'short' })).to.match(/too short/);
    expect(await start({})).to.match(/either a token secret or the address/);
    expect(await start({ secret: TOKEN_SECRET, algorithms: ['RS256'] })).to.match(/RS256 is not accepted/);
    expect(await start({ keysUrl: 'http://127.0.0.1:9/', algorithms: ['none'] })).to.match(/none is not accepted/);
  });
});

describe('accounts', () => {
  let service: TestService;
  before(async () => {
    service = await TestService.start({ accounts: 'open' });
    await service.setPolicy({
      collections: {
        reports: { read: "by = claim('sub') OR claim('role') = 'director'", create: "by = claim('sub')", update: true },
      },
    });
  });
  after(() => service.stop());
  const anonymous = (method: string, path: string, body?: unknown) => service.as(null)(method, path, body);
  const signIn = (name: string, password: string) => anonymous('POST', '/v1/sessions', { name, password });

  it('sign up, sign in, and are who the policy takes them for', async () => {
    const signedUp = await anonymous('POST', '/v1/accounts', { name: 'Ada', password: 'amber-balloon' });
    expect(signedUp.status).to.equal(201);
    const { account, accessToken } = signedUp.json;
    const ada = service.as(accessToken);
    expect((await ada('GET', '/v1/accounts/me')).json).to.include({ id: account, name: 'ada', guest: false });
    expect((await ada('PUT', '/v1/data/reports/r-1', { by: account })).status).to.equal(201);
    expect((await ada('PUT', '/v1/data/reports/r-2', { by: 'another' })).status).to.equal(403);
    expect((await signIn('ADA', 'amber-balloon')).status, 'names are compared without case').to.equal(201);
    expect((await anonymous('POST', '/v1/accounts', { name: 'ada', password: 'something-else' })).json.type).to.equal(
      '/problems/account-exists',
    );
    expect((await anonymous('POST', '/v1/accounts', { name: 'bo', password: 'short' })).json).to.include({
      pointer: '/password',
    });
    const claiming = { name: 'eve', password: 'amber-balloon', claims: { role: 'director' } };
    expect((await anonymous('POST', '/v1/accounts', claiming)).status).to.equal(403);
    const { events } = (await service.request('GET', '/v1/journal?doc=reports/r-1')).json;
    expect(events[0].identity).to.equal(`account:${account}`);
  });

  it('get the same answer for a wrong password as for an unknown name, in about the same time', async () => {
    const timed = async (name: string) => {
      const started = performance.now();
      const { status, text } = await signIn(name, 'not-the-password');
      return { status, text, ms: performance.now() - started };
    };
    const [wrong, unknown] = [await timed('ada'), await timed('unknown-name')];
    expect(wrong.status).to.equal(401);
    expect(wrong.text).to.equal(unknown.text);
    expect(unknown.ms, 'a password is hashed in both cases').to.be.above(10);
  });

  it('begin as guests, who keep their id when they take a name', async () => {
    const { account, accessToken } = (await anonymous('POST', '/v1/accounts/guests')).json;
    const guest = service.as(accessToken);
    expect((await guest('GET', '/v1/accounts/me')).json).to.include({ id: account, guest: true });
    await guest('PUT', '/v1/data/reports/r-9', { by: account });
    const adopted = await guest('PUT', '/v1/accounts/me/credentials', { name: 'gus', password: 'green-balloon' });
    expect(adopted.json).to.include({ id: account, name: 'gus', guest: false });
    const later = service.as((await signIn('gus', 'green-balloon')).json.accessToken);
    expect((await later('GET', '/v1/data/reports/r-9')).status).to.equal(200);
    expect(
      (await guest('PUT', '/v1/accounts/me/credentials', { name: 'gus2', password: 'green-balloon' })).status,
    ).to.equal(400);
  });

  it('refresh with a token that is good once, and whose reuse ends the session', async () => {
    const refresh = (refreshToken: string) => anonymous('POST', '/v1/sessions/refresh', { refreshToken });
    const first = (await signIn('ada', 'amber-balloon')).json;
    const lost = (await refresh(first.refreshToken)).json;
    const second = await refresh(first.refreshToken);
    expect(second.status, 'the answer was lost, and the token is unused').to.equal(200);
    expect((await service.as(lost.accessToken)('GET', '/v1/accounts/me')).status).to.equal(401);
    expect((await service.as(second.json.accessToken)('GET', '/v1/accounts/me')).status).to.equal(200);
    expect((await refresh(first.refreshToken)).status, 'two have it').to.equal(401);
    expect(
      (await service.as(second.json.accessToken)('GET', '/v1/accounts/me')).status,
      'it is over for both',
    ).to.equal(401);
    expect((await refresh(second.json.refreshToken)).status).to.equal(401);
    const third = (await signIn('ada', 'amber-balloon')).json;
    const fourth = (await refresh(third.refreshToken)).json;
    const fifth = (await refresh(fourth.refreshToken)).json;
    expect((await refresh(third.refreshToken)).status, 'an older one').to.equal(401);
    expect((await refresh(fifth.refreshToken)).status).to.equal(401);
    const { entries } = (await service.request('GET', '/v1/audit?event=refresh-reused')).json;
    expect(entries.length).to.be.at.least(1);
    expect((await refresh('refresh-nonsense')).json.type).to.equal('/problems/token-invalid');
  });

  it('sign out everywhere, change their password, and are disabled, with all that is open', async () => {
    const [one, two] = [(await signIn('ada', 'amber-balloon')).json, (await signIn('ada', 'amber-balloon')).json];
    const socket = await RawSocket.open(service);
    await socket.call('hello', { token: two.accessToken });
    await socket.call('watch', { query: { from: 'reports' } });
    const ada = service.as(one.accessToken);
    expect((await ada('PUT', '/v1/accounts/me/password', { old: 'wrong', new: 'blue-balloon' })).status).to.equal(401);
    expect(
      (await ada('PUT', '/v1/accounts/me/password', { old: 'amber-balloon', new: 'blue-balloon' })).status,
    ).to.equal(204);
    await until('the other session has ended', () => socket.heard.some(({ method }) => method === 'end'));
    expect((await ada('GET', '/v1/accounts/me')).status, 'its own goes on').to.equal(200);
    expect((await signIn('ada', 'amber-balloon')).status).to.equal(401);
    const other = (await signIn('ada', 'blue-balloon')).json;
    expect((await ada('DELETE', '/v1/sessions')).status).to.equal(204);
    expect((await service.as(other.accessToken)('GET', '/v1/accounts/me')).status).to.equal(401);
    await service.request(
      'PATCH',
      `/v1/accounts/${one.account}`,
      { disabled: true },
      { 'content-type': 'application/json' },
    );
    expect((await signIn('ada', 'blue-balloon')).status).to.equal(401);
    await service.request(
      'PATCH',
      `/v1/accounts/${one.account}`,
      { disabled: false },
      { 'content-type': 'application/json' },
    );
    expect((await signIn('ada', 'blue-balloon')).status).to.equal(201);
    socket.socket.close();
  });

  it('see more or less at once when administrators change their claims', async () => {
    const { accessToken, account } = (await signIn('ada', 'blue-balloon')).json;
    const socket = await RawSocket.open(service);
    await socket.call('hello', { token: accessToken });
    const { result } = await socket.call('watch', { query: { from: 'reports' } });
    const before = result.documents.length;
    const alter = (claims: object) =>
      service.request('PATCH', `/v1/accounts/${account}`, { claims }, { 'content-type': 'application/json' });
    expect((await alter({ role: 'director' })).status).to.equal(200);
    await until('it shows more', () =>
      socket.heard.some(({ method, params }) => method === 'reset' && params.documents.length > before),
    );
    expect((await alter({ sub: 'other' })).json).to.include({ status: 400, pointer: '/claims/sub' });
    await service.request('DELETE', `/v1/accounts/${account}`);
    await until('it has ended', () => socket.heard.some(({ method }) => method === 'end'));
    socket.socket.close();
  });

  it('are made by administrators alone where they are closed, and not at all where they are off', async () => {
    const closed = await TestService.start();
    const off = await TestService.start({ accounts: 'off' });
    try {
      const form = { name: 'ada', password: 'amber-balloon', claims: { role: 'crew' } };
      expect((await closed.as(null)('POST', '/v1/accounts', { ...form, claims: undefined })).json.type).to.equal(
        '/problems/accounts-off',
      );
      expect((await closed.as(null)('POST', '/v1/accounts/guests')).status).to.equal(403);
      expect((await closed.request('POST', '/v1/accounts', form)).json).to.deep.include({
        name: 'ada',
        claims: { role: 'crew' },
      });
      expect(
        (await closed.as(null)('POST', '/v1/sessions', { name: 'ada', password: 'amber-balloon' })).status,
      ).to.equal(201);
      expect((await off.as(null)('POST', '/v1/sessions', { name: 'ada', password: 'amber-balloon' })).status).to.equal(
        403,
      );
    } finally {
      await Promise.all([closed.stop(), off.stop()]);
    }
  });
});

describe('an open store', () => {
  it('allows everything with documents, but nothing that outlasts the open period', async () => {
    const service = await TestService.start({ openForMs: 3000 });
    const anonymous = service.as(null);
    try {
      expect((await anonymous('PUT', '/v1/data/flights/f-1', { a: 1 })).status).to.equal(201);
      expect((await anonymous('GET', '/v1/data/flights')).json.documents).to.have.length(1);
      for (const path of ['/v1/keys', '/v1/policy', '/v1/accounts'])
        expect((await anonymous('GET', path)).json.type).to.equal('/problems/admin-only');
      const evil = { origin: 'https://evil.test' };
      expect((await anonymous('GET', '/v1/data/flights', undefined, evil)).json.type).to.equal(
        '/problems/origin-refused',
      );
      const underAnotherName = await new Promise((resolve) =>
        get(`${service.url}/v1/data/flights`, { headers: { host: 'evil.test' } }, ({ statusCode }) =>
          resolve(statusCode),
        ),
      );
      expect(underAnotherName, 'a name that points to this address').to.equal(403);
      const { events } = (await service.request('GET', '/v1/journal')).json;
      expect(events[0].identity).to.equal('open');
      const socket = await RawSocket.open(service);
      const { result } = await socket.call('hello', {});
      expect(result.identity).to.include({ kind: 'open', scope: 'write' });
      expect(Date.parse(result.openUntil) - Date.now()).to.be.within(0, 3000);
      await socket.call('watch', { query: { from: 'flights' } });
      await until('it is closed', () => socket.heard.some(({ method }) => method === 'end'));
      expect((await anonymous('GET', '/v1/data/flights')).status).to.equal(401);
      expect((await service.as(KEY)('GET', '/v1/data/flights')).status).to.equal(200);
      socket.socket.close();
    } finally {
      await service.stop();
    }
  });

  it('is refused at an address that others can reach, unless that is asked for', async () => {
    const message = await TestService.start({ host: '0.0.0.0', openForMs: 1000 }).then(
      (service) => service.stop(),
      (error: Error) => error.message,
    );
    expect(message).to.match(/only listens on this machine.*--open-to-the-network/);
  });
});
