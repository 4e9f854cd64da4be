import { expect } from 'chai';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, TestService } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

type Asker = ReturnType<TestService['as']>;

describe('information that is not revealed', () => {
  let service: TestService;
  let ada: Asker;
  beforeEach(async () => {
    service = await TestService.start({
      tokens: TOKEN_SETTINGS,
      accounts: 'open',
      documentLimits: { sizeBytes: 5000, depth: 64 },
    });
    ada = service.as(await makeToken({ sub: 'ada' }));
  });
  afterEach(() => service.stop());

  it('is not how many documents are hidden, by the step of a sample of shapes', async () => {
    await service.setPolicy({ collections: { notes: { read: 'open = true' } } });
    const add = (from: number, count: number, open: boolean) =>
      service.request('POST', '/v1/commits', {
        writes: Array.from({ length: count }, (_, n) => ({ put: `notes/n-${from + n}`, data: { open, n: from + n } })),
      });
    await add(0, 100, true);
    const shapes = async () => {
      const { json } = await ada('GET', '/v1/shapes/notes?sample=50');
      return { ...json, seq: 0 };
    };
    const before = await shapes();
    await add(1000, 900, false);
    expect(await shapes()).to.deep.equal(before);
  });

  it('is the size of concealed fields, by the size limit', async () => {
    await service.setPolicy({ collections: { notes: { read: 'true', update: 'true', conceal: ['secret'] } } });
    const answers: unknown[] = [];
    for (const size of [10, 3000]) {
      await service.request('PUT', '/v1/data/notes/n-1', { secret: 'x'.repeat(size) });
      const { status, json } = await ada('PATCH', '/v1/data/notes/n-1', { text: 'y'.repeat(4000) });
      answers.push([status, json.detail]);
      const tooLarge = await ada('PATCH', '/v1/data/notes/n-1', { text: 'y'.repeat(6000) });
      answers.push([tooLarge.status, tooLarge.json.detail]);
    }
    expect(answers.slice(0, 2)).to.deep.equal(answers.slice(2));
    expect(answers[0]).to.deep.equal([200, undefined]);
  });

  it('is not whether a concealed field is there, by whether its place can be written over', async () => {
    await service.setPolicy({ collections: { notes: { read: 'true', update: 'true', conceal: ['o.x'] } } });
    const attempts = [{ o: 1 }, { o: [] }, { o: { y: 1 } }, { o: null }];
    const outcomes = async (data: object) => {
      const statuses: number[] = [];
      for (const attempt of attempts) {
        await service.request('PUT', '/v1/data/notes/n-1', data);
        statuses.push((await ada('PATCH', '/v1/data/notes/n-1', attempt)).status);
        await service.request('PUT', '/v1/data/notes/n-1', data);
        // A commit that fails later must tell no more.
        const commit = await ada('POST', '/v1/commits', {
          writes: [{ merge: 'notes/n-1', data: attempt }, { delete: 'notes/none' }],
        });
        statuses.push(commit.json.write);
      }
      return statuses;
    };
    const [without, withIt] = [await outcomes({ o: {} }), await outcomes({ o: { x: 1 } })];
    expect(withIt).to.deep.equal(without);
    expect(without).to.deep.equal([403, 0, 403, 0, 200, 1, 200, 1]);
    await service.request('PUT', '/v1/data/notes/n-1', { o: { x: 1 } });
    await ada('PATCH', '/v1/data/notes/n-1', { o: null });
    expect((await service.request('GET', '/v1/data/notes/n-1')).json.data, 'the concealed field stays').to.deep.equal({
      o: { x: 1 },
    });
  });

  it('is not what concealed fields do to a schema', async () => {
    await service.setPolicy({ collections: { notes: { read: 'true', update: 'true', conceal: ['secret'] } } });
    const schemas: object[] = [
      { type: 'object', properties: { a: { type: 'number' } }, unevaluatedProperties: false },
      { type: 'object', propertyNames: { pattern: '^[a-d]$' } },
      { type: 'object', dependentRequired: { secret: ['b'] } },
      { type: 'object', if: { required: ['secret'] }, then: { required: ['c'] } },
      { type: 'object', not: { required: ['secret'] } },
      { type: 'object', maxProperties: 1 },
    ];
    for (const schema of schemas) {
      await service.request('PUT', '/v1/schemas/notes', { mode: 'off', schema });
      await service.request('PUT', '/v1/data/notes/n-1', { a: 1, secret: 1 });
      for (const mode of ['warn', 'enforce']) {
        await service.request('PUT', '/v1/schemas/notes?anyway=true', { mode, schema, anyway: true });
        const { json, headers } = await ada('PATCH', '/v1/data/notes/n-1', { a: 2 });
        expect(JSON.stringify(json) + String(headers.get('schema-violations')), JSON.stringify(schema)).not.to.match(
          /secret|"violations":\[\{/,
        );
      }
    }
    await service.request('PUT', '/v1/schemas/notes', {
      mode: 'warn',
      schema: { type: 'object', properties: { a: { type: 'number' } }, required: ['b'] },
    });
    const own = await ada('POST', '/v1/commits', { id: 'c-1', writes: [{ merge: 'notes/n-1', data: { a: 'text' } }] });
    expect(own.json.warnings[0].violations).to.have.length(2);
    const repeated = await ada('POST', '/v1/commits', {
      id: 'c-1',
      writes: [{ merge: 'notes/n-1', data: { a: 'text' } }],
    });
    expect(repeated.json, 'a repeat has the warnings, too').to.deep.equal(own.json);
  });

  it('is not what an earlier key of the same name has done, nor what others who send no key have', async () => {
    const make = async () => (await service.request('POST', '/v1/keys', { name: 'gate', scope: 'write' })).json;
    const first = await make();
    const commit = { id: 'c-1', writes: [{ create: 'notes', data: { n: 1 } }] };
    const receipt = (await service.as(first.key)('POST', '/v1/commits', commit)).json;
    expect((await service.as(first.key)('POST', '/v1/commits', commit)).json).to.deep.equal(receipt);
    await service.request('DELETE', `/v1/keys/${first.id}`);
    const second = await make();
    const other = (await service.as(second.key)('POST', '/v1/commits', commit)).json;
    expect(other.documents[0].id).not.to.equal(receipt.documents[0].id);

    await service.setPolicy({ anonymous: true, default: { read: 'true', create: 'true' } });
    const anybody = service.as(null);
    for (const n of [1, 2]) {
      const answer = await anybody('POST', '/v1/commits', { id: 'same', writes: [{ create: 'notes', data: { n } }] });
      expect(answer.status, answer.text).to.equal(200);
    }
  });

  it('is not how many changes of other collections a commit had, for a key that is for some', async () => {
    const { json } = await service.request('POST', '/v1/keys', { name: 'gate', scope: 'read', collections: ['notes'] });
    await service.request('POST', '/v1/commits', {
      writes: [
        { put: 'other/a', data: {} },
        { put: 'notes/n-1', data: {} },
        { put: 'other/b', data: {} },
        { put: 'notes/n-2', data: {} },
      ],
    });
    const { events } = (await service.as(json.key)('GET', '/v1/journal')).json;
    expect(events.map(({ id }: { id: string }) => id)).to.deep.equal(['1.0', '1.1']);
  });

  it('requires the permission to create or update, also for commits that change nothing, which get no seq', async () => {
    await service.setPolicy({ default: { read: 'true' } });
    await service.request('PUT', '/v1/data/notes/n-1', { n: 1 });
    const reader = (await service.request('POST', '/v1/keys', { name: 'r', scope: 'read' })).json.key;
    const seq = async () => (await service.request('GET', '/v1/collections')).json.seq;
    const before = await seq();
    const nothing = [
      { create: 'notes', id: 'n-1', data: {}, keepExisting: true },
      { patch: 'notes/n-1', ops: [] },
    ];
    for (const write of nothing) {
      for (const asker of [service.as(reader), ada]) {
        expect((await asker('POST', '/v1/commits', { writes: [write] })).status).to.equal(403);
      }
      expect((await service.request('POST', '/v1/commits', { writes: [write] })).json).to.deep.equal({
        seq: before,
        documents: [{ collection: 'notes', id: 'n-1', version: before }],
      });
    }
    const type = { 'content-type': 'application/json-patch+json' };
    const patched = await service.request('PATCH', '/v1/data/notes/n-1', [], type);
    expect([patched.status, patched.json.version]).to.deep.equal([200, before]);
    expect(await seq()).to.equal(before);
  });

  it('is kept by no cache for others', async () => {
    await service.request('PUT', '/v1/data/notes/n-1', { n: 1 });
    for (const path of [
      '/v1/data/notes',
      '/v1/data/notes/n-1',
      '/v1/collections',
      '/v1/journal',
      '/v1/keys',
      '/v1/data/notes/none',
    ]) {
      const { headers } = await service.request('GET', path);
      expect(headers.get('cache-control'), path).to.match(/private|no-store/);
    }
  });

  it('is found out by few guesses of a password, also when they are made at the same time', async () => {
    await service.request('POST', '/v1/accounts', { name: 'ada', password: 'a-password-of-ada' });
    const guess = (password: string) => service.as(null)('POST', '/v1/sessions', { name: 'ada', password });
    const statuses = (await Promise.all(Array.from({ length: 60 }, (_, n) => guess(`wrong-password-${n}`)))).map(
      ({ status }) => status,
    );
    expect(statuses.filter((status) => status === 401)).to.have.length(10);
    expect(statuses.filter((status) => status === 429)).to.have.length(50);
    const bearers = await Promise.all(
      Array.from({ length: 150 }, (_, n) =>
        service.as(`wrong-key-0123456789-${n}`)('POST', '/v1/accounts', {
          name: `b${n}`,
          password: 'a-password-of-bea',
        }),
      ),
    );
    expect(bearers.filter(({ status }) => status === 429).length).to.be.above(20);
  });

  it('is left out of the log, however a parameter is encoded', async () => {
    const lines: string[] = [];
    const logged = await TestService.start({
      logLevel: 'debug',
      logStream: { write: (line) => void lines.push(line) },
    });
    for (const name of ['ticket', '%74icket', 'TICKET', '%73ignature', 't%6Fken']) {
      await logged.request('GET', `/v1/data/notes?${name}=open-sesame&limit=1`);
    }
    await new Promise((resolve) => setTimeout(resolve, 100));
    expect(lines.join('')).not.to.include('open-sesame');
    expect(lines.join('')).to.include('(hidden)');
    await logged.stop();
  });
});

describe('numbers, ids and versions', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  it('everything that the store hands out can be sent back', async () => {
    const numbers = [
      '1e16',
      '10000000000000000',
      '9007199254740994',
      '1e21',
      '123456789012345680000',
      '-1e17',
      '1.5e300',
      '5e-324',
    ];
    const text = `{"list":[${numbers.join(',')}]}`;
    expect((await service.request('PUT', '/v1/data/numbers/n-1', text)).status).to.equal(201);
    const shown = (await service.request('GET', '/v1/data/numbers/n-1')).text;
    const data = /"data":(.*)\}$/.exec(shown)![1]!;
    const again = await service.request('PUT', '/v1/data/numbers/n-2', data);
    expect(again.status, again.text).to.equal(201);
    for (const lossy of ['9007199254740993', '12345678901234567891']) {
      expect((await service.request('PUT', '/v1/data/numbers/n-3', `{"n":${lossy}}`)).json.type).to.equal(
        '/problems/bad-json',
      );
    }
    const where = { op: '=', args: [{ property: 'n' }, 1e16] };
    const asked = await service.request('POST', '/v1/query', { from: 'numbers', where });
    expect(asked.status, asked.text).to.equal(200);
  });

  it('ids that packages for JSON Patch refuse are refused', async () => {
    for (const id of ['__proto__', 'constructor', 'prototype']) {
      const { status, json } = await service.request('PUT', `/v1/data/odd/${id}`, { n: 1 });
      expect([status, json.type], id).to.deep.equal([400, '/problems/bad-id']);
    }
  });

  it('a refusal names the version in the store, not one that was about to be', async () => {
    const writes = [
      { create: 'pads', id: 'p-1', data: {} },
      { create: 'pads', id: 'p-1', data: {} },
    ];
    const { json } = await service.request('POST', '/v1/commits', { writes });
    expect(json).to.include({ type: '/problems/document-exists', currentVersion: 0, write: 1 });
  });

  it('errors report the cause: a policy that is not text, and a watch of two targets', async () => {
    const policy = await service.request('PUT', '/v1/policy', { collections: { notes: { read: 'true' } } });
    expect(policy.json.detail).to.include('{"text":');
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    const both = await socket.call('watch', { query: { from: 'notes' }, doc: 'notes/n-1' });
    expect(both.error.data.detail).to.include('exactly one of "query", "doc" and "collections"');
    socket.socket.close();
  });
});
