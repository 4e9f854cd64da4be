import { expect } from 'chai';
import { StreamReader } from '../../../test/event-stream.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

const POLICY = {
  anonymous: true,
  collections: {
    flights: {
      read: "claim('role') = 'director' OR crew = claim('crew')",
      create: "claim('role') = 'director'",
      update: "claim('role') = 'director' OR crew = claim('crew') AND crew = was('crew')",
      delete: "claim('role') = 'director'",
      conceal: ['remarks', { field: 'payer', unless: "claim('role') = 'director'" }],
    },
    notices: { read: 'public = TRUE', create: "claim('sub') IS NOT NULL" },
    logs: { create: true },
  },
};
const OPEN_TO_ALL = { anonymous: true, collections: { ...POLICY.collections, flights: { read: true } } };

describe('the policy over every interface', () => {
  let service: TestService;
  let crew: string;
  let director: string;
  type Ask = ReturnType<TestService['as']>;
  let asCrew: Ask;
  let asDirector: Ask;
  let asNobody: Ask;
  before(async () => {
    service = await TestService.start({ tokens: TOKEN_SETTINGS, heartbeatMs: 500 });
    crew = await makeToken({ sub: 'ada', crew: 'c-1' });
    director = await makeToken({ sub: 'dora', role: 'director' });
    [asCrew, asDirector, asNobody] = [service.as(crew), service.as(director), service.as(null)];
  });
  after(() => service.stop());
  beforeEach(async () => {
    await service.setPolicy(POLICY);
    const put = (path: string, data: unknown) => service.request('PUT', `/v1/data/${path}`, data);
    await put('flights/f-1', { crew: 'c-1', altitude: 100, payer: 'x', remarks: 'secret' });
    await put('flights/f-2', { crew: 'c-2', altitude: 900, payer: 'y' });
    await put('notices/n-1', { public: true });
    await put('notices/n-2', { public: false });
  });

  const ids = ({ json }: { json: { documents?: { id: string }[] } }) => json.documents?.map(({ id }) => id);

  it('filters queries, in every format, and shows nothing that is concealed', async () => {
    expect(ids(await asCrew('GET', '/v1/data/flights'))).to.deep.equal(['f-1']);
    expect(ids(await asDirector('GET', '/v1/data/flights'))).to.deep.equal(['f-1', 'f-2']);
    expect(ids(await asNobody('GET', '/v1/data/notices'))).to.deep.equal(['n-1']);
    const { json } = await asCrew('GET', '/v1/data/flights');
    expect(json.documents[0].data).to.deep.equal({ crew: 'c-1', altitude: 100 });
    expect((await asDirector('GET', '/v1/data/flights/f-1')).json.data).to.have.property('payer', 'x');
    expect((await asDirector('GET', '/v1/data/flights/f-1')).json.data).not.to.have.property('remarks');
    for (const accept of ['text/csv', 'application/x-ndjson']) {
      const { text } = await asCrew('GET', '/v1/data/flights?limit=none', undefined, { accept });
      expect(text, accept)
        .to.include('f-1')
        .and.not.match(/f-2|payer|remarks|secret/);
    }
    expect(ids(await asCrew('GET', `/v1/data/flights?where=${encodeURIComponent("payer = 'x'")}`))).to.deep.equal([]);
    const found = await asCrew('POST', '/v1/query', { from: 'flights', where: "crew = claim('crew')" });
    expect(ids(found)).to.deep.equal(['f-1']);
  });

  it('says 403 where nothing may be read at all, and 404 for a document, whether it is hidden or not there', async () => {
    const { status, json } = await asNobody('GET', '/v1/data/logs');
    expect([status, json.type, json.rule]).to.deep.equal([403, '/problems/not-allowed', 'read']);
    expect((await asCrew('GET', '/v1/data/pads')).status).to.equal(403);
    const [hidden, absent] = [await asCrew('GET', '/v1/data/flights/f-2'), await asCrew('GET', '/v1/data/flights/f-9')];
    expect(hidden.status).to.equal(404);
    expect(hidden.text.replaceAll('f-2', 'f-9')).to.equal(absent.text);
    const match = { 'if-match': '"1"' };
    const [a, b] = [
      await asCrew('GET', '/v1/data/flights/f-2', undefined, match),
      await asCrew('GET', '/v1/data/flights/f-9', undefined, match),
    ];
    expect(a.text.replaceAll('f-2', 'f-9')).to.equal(b.text);
    expect((await asCrew('GET', '/v1/data/flights/f-2?at=2')).status).to.equal(404);
  });

  it('evaluates writes, and explains a refusal by the rule', async () => {
    expect((await asCrew('PATCH', '/v1/data/flights/f-1', { altitude: 200 })).json.data).to.deep.equal({
      crew: 'c-1',
      altitude: 200,
    });
    expect((await service.request('GET', '/v1/data/flights/f-1')).json.data).to.include({
      remarks: 'secret',
      altitude: 200,
    });
    const away = await asCrew('PATCH', '/v1/data/flights/f-1', { crew: 'c-2' });
    expect([away.status, away.json.rule, away.json.currentVersion]).to.deep.equal([
      403,
      'update',
      away.json.currentVersion,
    ]);
    expect((await asCrew('PUT', '/v1/data/flights/f-3', { crew: 'c-1' })).json).to.include({
      status: 403,
      rule: 'create',
    });
    expect((await asCrew('DELETE', '/v1/data/flights/f-1')).json).to.include({ status: 403, rule: 'delete' });
    const hidden = await asCrew('PATCH', '/v1/data/flights/f-2', { altitude: 1 });
    expect(hidden.json).to.include({ status: 404, currentVersion: 0 });
    const commit = await asCrew('POST', '/v1/commits', {
      writes: [
        { merge: 'flights/f-1', data: { altitude: 7 } },
        { merge: 'flights/f-2', data: { altitude: 7 } },
      ],
    });
    expect(commit.json).to.include({ status: 404, write: 1 });
    expect((await asCrew('GET', '/v1/data/flights/f-1')).json.data.altitude).to.equal(200);
    const reads = (version: number) =>
      asCrew('POST', '/v1/commits', {
        writes: [{ merge: 'flights/f-1', data: { altitude: 8 } }],
        reads: [{ doc: 'flights/f-2', version }],
      });
    expect((await reads(0)).status, 'it does not exist for them').to.equal(200);
    expect((await reads(2)).json).to.include({ status: 409, currentVersion: 0 });
  });

  it('evaluates a refused commit again under the present policy when it is sent again', async () => {
    const commit = { id: 'once-more', writes: [{ delete: 'flights/f-1' }] };
    expect((await asCrew('POST', '/v1/commits', commit)).status).to.equal(403);
    await service.setPolicy({ collections: { flights: { read: true, delete: true } } });
    const done = await asCrew('POST', '/v1/commits', commit);
    expect(done.status).to.equal(200);
    expect((await asCrew('POST', '/v1/commits', commit)).json).to.deep.equal(done.json);
  });

  it('allows writing without reading, and returns nothing of the document', async () => {
    const made = await asNobody('POST', '/v1/data/logs', { text: 'hello' });
    expect([made.status, made.text]).to.deep.equal([201, '']);
    expect(made.headers.get('location')).to.match(/^\/v1\/data\/logs\//);
    expect((await asNobody('GET', made.headers.get('location')!)).status).to.equal(403);
  });

  it('reports only collections and costs that do not depend on hidden documents', async () => {
    expect((await asCrew('GET', '/v1/collections')).json.documents).to.deep.equal([
      { id: 'flights', data: {} },
      { id: 'notices', data: {} },
    ]);
    const { documents } = (await asDirector('GET', '/v1/collections')).json;
    expect(documents[0]).to.deep.include({ id: 'flights', data: { documents: 2 } });
    const { json } = await asCrew('POST', '/v1/explain', { from: 'flights', where: 'altitude > 1' });
    expect(json).to.include({
      where: 'altitude > 1',
      documentsReturned: 1,
      documentsRead: null,
      milliseconds: null,
      index: null,
    });
  });

  it('shows in the journal and its history what may be seen, as it comes into sight and goes out', async () => {
    const { seq } = (await service.request('GET', '/v1/collections')).json;
    await service.request('PATCH', '/v1/data/flights/f-2', { crew: 'c-1', remarks: 'r' });
    await service.request('PATCH', '/v1/data/flights/f-2', { altitude: 901 });
    await service.request('PATCH', '/v1/data/flights/f-2', { crew: 'c-2' });
    await service.request('PATCH', '/v1/data/flights/f-2', { altitude: 902 });
    const kinds = async (query: string) =>
      (await asCrew('GET', `/v1/journal?${query}`)).json.events.map(({ type }: { type: string }) => type.split('.')[2]);
    expect(await kinds(`after=${seq}`)).to.deep.equal(['created', 'updated', 'deleted']);
    expect(await kinds(`after=${seq}&doc=flights/f-2`)).to.deep.equal(['created', 'updated', 'deleted']);
    const page = (await asCrew('GET', `/v1/journal?after=${seq}&doc=flights/f-2`)).json;
    expect([page.seq, page.more]).to.deep.equal([seq + 3, false]);
    expect(JSON.stringify(page)).not.to.match(/remarks|902/);
    expect((await asNobody('GET', '/v1/journal?doc=flights/f-2')).status).to.equal(403);
    const none = (await asCrew('GET', `/v1/journal?after=${seq + 3}&doc=flights/f-2`)).json;
    expect([none.events, none.seq, none.more]).to.deep.equal([[], seq + 3, false]);
  });

  it('updates open views at once when it changes, and ends views that are no longer allowed', async () => {
    const stream = await StreamReader.open(`${service.url}/v1/data/flights`, undefined, crew);
    const socket = await RawSocket.open(service);
    await socket.call('hello', { token: crew });
    const first = (await socket.call('watch', { query: { from: 'flights' } })).result;
    const one = (await socket.call('watch', { doc: 'flights/f-2' })).result;
    expect([first.documents.length, one.documents.length]).to.deep.equal([1, 0]);
    await until('the stream is there', () => Object.keys(stream.state).length === 1);

    await service.setPolicy(OPEN_TO_ALL);
    await until('the stream shows all', () => Object.keys(stream.state).length === 2);
    await until('the socket does', () => socket.heard.filter(({ method }) => method === 'reset').length === 2);
    const [reset, other] = socket.heard.filter(({ method }) => method === 'reset').map(({ params }) => params);
    expect(reset).to.include({ was: first.watch });
    expect(reset.watch).not.to.equal(first.watch);
    expect(other.documents).to.have.length(1);
    await service.request('PATCH', '/v1/data/flights/f-2', { altitude: 1 });
    await until('changes come under the new name', () =>
      socket.heard.some(({ method, params }) => method === 'change' && params.watch === reset.watch),
    );

    await service.setPolicy({ collections: {} });
    await until('the stream has ended', () => stream.ended);
    expect(stream.events.at(-1)).to.deep.include({ event: 'end' });
    expect(stream.events.at(-1)!.data.type).to.equal('/problems/not-allowed');
    await until('the watches have', () => socket.heard.filter(({ method }) => method === 'end').length === 2);
    await socket.call('get', { doc: 'flights/f-1' }).then(({ error }) => expect(error.data.status).to.equal(403));
    socket.socket.close();
  });

  it('sends nothing for commits that change nothing visible', async () => {
    const stream = await StreamReader.open(`${service.url}/v1/data/flights`, undefined, crew);
    await until('it has begun', () => stream.events.length === 1);
    await service.request('PATCH', '/v1/data/flights/f-2', { altitude: 3 });
    await service.request('PUT', '/v1/data/flights/f-4', { crew: 'c-4' });
    await service.request('PATCH', '/v1/data/flights/f-1', { altitude: 4 });
    await until('the change that is seen has come', () => stream.events.length > 1);
    expect(stream.events).to.have.length(2);
    expect(JSON.stringify(stream.events[1]))
      .to.include('/f-1')
      .and.not.match(/f-2|f-4/);
    await service.request('PATCH', '/v1/data/flights/f-1', { crew: 'c-9' });
    await until('it left', () => Object.keys(stream.state).length === 0);
    stream.close();
  });

  it('follows the claims when hello is called again with another token, and ends with the token otherwise', async () => {
    const socket = await RawSocket.open(service);
    // Tokens are good for 30 s after they expire: this one for another 6 s, on a machine that may be busy.
    const brief = await makeToken({ sub: 'ada', crew: 'c-1' }, -24);
    expect((await socket.call('hello', { token: brief })).result.identity).to.deep.include({
      kind: 'token',
      name: 'ada',
    });
    const { result } = await socket.call('watch', { query: { from: 'flights' } });
    expect(result.documents).to.have.length(1);
    await socket.call('hello', { token: director });
    await until('it shows all', () =>
      socket.heard.some(({ method, params }) => method === 'reset' && params.documents.length === 3),
    );
    await new Promise((resolve) => setTimeout(resolve, 6300));
    expect((await socket.call('query', { from: 'flights' })).result.documents, 'renewed in time').to.have.length(3);
    await socket.call('hello', { token: await makeToken({ sub: 'ada', crew: 'c-1' }, -25) });
    await until('it has ended', () => socket.heard.some(({ method }) => method === 'end'));
    expect(socket.heard.find(({ method }) => method === 'end').params.problem.type).to.equal('/problems/token-expired');
    expect((await socket.call('query', { from: 'flights' })).error.data.status).to.equal(401);
    await socket.call('hello', { token: crew });
    expect((await socket.call('query', { from: 'flights' })).result.documents).to.have.length(1);
    socket.socket.close();
  });

  it('gives a ticket the rights of its creator', async () => {
    const { ticket } = (await asCrew('POST', '/v1/tickets')).json;
    const { json } = await asNobody('GET', `/v1/data/flights?ticket=${ticket}`);
    expect(json.documents).to.have.length(1);
    expect((await asNobody('GET', `/v1/data/flights?ticket=${ticket}`)).json.type).to.equal('/problems/ticket-invalid');
  });
});

describe('the policy itself', () => {
  let service: TestService;
  before(async () => {
    service = await TestService.start({ tokens: TOKEN_SETTINGS });
    await service.request('PUT', '/v1/data/flights/f-1', { crew: 'c-1', altitude: 100 });
  });
  after(() => service.stop());
  const set = (body: unknown) => service.request('PUT', '/v1/policy', body);

  it('is closed before any is set, keeps its versions, and goes back to one', async () => {
    expect((await service.request('GET', '/v1/policy')).json).to.deep.include({ version: 0 });
    const token = service.as(await makeToken({ sub: 'ada' }));
    expect((await token('GET', '/v1/data/flights')).status).to.equal(403);
    expect((await service.as(null)('GET', '/v1/data/flights')).status).to.equal(401);
    await set({ text: 'collections:\n  flights:\n    read: "TRUE"\n', note: 'all may look' });
    expect((await token('GET', '/v1/data/flights')).status).to.equal(200);
    await set({ text: '{"collections":{}}' });
    expect((await token('GET', '/v1/data/flights')).status).to.equal(403);
    const { versions } = (await service.request('GET', '/v1/policy/versions')).json;
    expect(versions.map(({ version }: { version: number }) => version)).to.deep.equal([2, 1]);
    expect(versions[1]).to.include({ note: 'all may look', identity: 'key:environment' });
    expect((await service.request('POST', '/v1/policy/revert', { version: 1 })).json).to.include({ version: 3 });
    expect((await token('GET', '/v1/data/flights')).status).to.equal(200);
    expect((await set({ text: '{}', ifVersion: 1 })).json).to.include({ status: 409, currentVersion: 3 });
    await service.restart();
    expect((await token('GET', '/v1/data/flights')).status).to.equal(200);
  });

  it('is validated when it is set: errors with their place, and warnings for likely mistakes', async () => {
    const fault = await set({ text: 'collections:\n  flights:\n    read: "crew = "\n' });
    expect(fault.json).to.include({ status: 422, pointer: '/collections/flights/read' });
    expect((await set({ text: 'collections: [' })).json).to.include({ status: 422, type: '/problems/bad-policy' });
    expect((await set({ text: 'a: &a [x]\nb: *a' })).status).to.equal(422);
    const { json } = await set({
      dryRun: true,
      text: JSON.stringify({
        anonymous: true,
        collections: {
          flihgts: { read: true },
          flights: { read: "cerw = 'c-1'", create: true, update: "crew = 'a' AND crew = 'b'", conceal: ['nowhere'] },
          logs: { update: true },
        },
      }),
    });
    const warnings = json.warnings.map(
      ({ pointer, message }: { pointer: string; message: string }) => `${pointer} ${message}`,
    );
    for (const expected of [
      /flihgts .*Did you mean "flights"/,
      /flights\/read .*no field|flights\/read .*has the field cerw\. Did you mean "crew"/,
      /flights\/create Anonymous callers/,
      /flights\/update This is never true/,
      /conceal\/0 .*nowhere/,
      /logs\/update This is never reached/,
    ])
      expect(warnings.join('\n')).to.match(expected);
    expect((await service.request('GET', '/v1/policy')).json.version, 'nothing was set').to.equal(3);
  });

  it('explains decisions for an identity, and previews what it would see', async () => {
    const text = JSON.stringify({ collections: { flights: { read: "crew = claim('crew')" } } });
    const attempt = { as: { claims: { crew: 'c-2' } }, do: 'read', collection: 'flights', id: 'f-1', text };
    const { json } = await service.request('POST', '/v1/policy/try', attempt);
    expect(json).to.deep.include({ allowed: false, rule: 'read', values: { crew: 'c-1', "claim('crew')": 'c-2' } });
    const preview = { as: { claims: { crew: 'c-1' } }, collection: 'flights', text };
    expect((await service.request('POST', '/v1/policy/preview', preview)).json.documents).to.have.length(1);
    expect((await service.request('POST', '/v1/policy/try', { ...attempt, id: 'f-9' })).status).to.equal(404);
    expect((await service.request('POST', '/v1/policy/try', { ...attempt, as: 'anonymous' })).status).to.equal(401);
  });

  it('is for keys that may administer', async () => {
    const { key } = (await service.request('POST', '/v1/keys', { name: 'device', scope: 'write' })).json;
    for (const [method, path] of [
      ['GET', '/v1/policy'],
      ['PUT', '/v1/policy'],
      ['GET', '/v1/keys'],
      ['GET', '/v1/audit'],
      ['GET', '/v1/accounts'],
      ['GET', '/v1/backups'],
      ['POST', '/v1/backups'],
      ['GET', '/v1/indexes'],
      ['POST', '/v1/policy/try'],
    ])
      expect((await service.as(key)(method!, path!, method === 'GET' ? undefined : {})).json.type, path).to.equal(
        '/problems/admin-only',
      );
  });
});
