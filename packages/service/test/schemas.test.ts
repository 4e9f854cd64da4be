import { expect } from 'chai';
import { proposeSchema, ShapeFinder, type JsonObject } from '@uproar/core';
import { KEY, TestService } from '../../../test/service.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';
import { compileSchema } from '../dist/state/compile-schema.js';

const SCHEMA = {
  type: 'object',
  properties: {
    name: { type: 'string' },
    altitude: { type: 'number', minimum: 0 },
    status: { enum: ['packed', 'aloft'] },
    pilot: { type: 'object', properties: { hours: { type: 'integer' } }, additionalProperties: false },
  },
  required: ['name'],
};

describe('a schema that is proposed', () => {
  it('matches all documents it was made from', () => {
    const finder = new ShapeFinder();
    const documents: JsonObject[] = Array.from({ length: 60 }, (_, n) => ({
      name: `Balloon ${n}`,
      status: ['packed', 'aloft'][n % 2]!,
      altitude: n % 5 ? n : 'high',
      fuel: n / 4,
      decks: n % 4,
      ...(n % 3 ? { pilot: { name: `P ${n}`, hours: n, 'odd.name': true } } : {}),
      start: `2026-06-0${(n % 9) + 1}T05:00:00Z`,
      claimedBy: n % 2 ? null : `c-${n % 3}`,
      stops: [{ at: n } as JsonObject, { at: n, note: 'x' }],
      tags: n % 2 ? [] : ['a', 4],
      position: { type: 'Point', coordinates: [n, 1] },
    }));
    documents.forEach((data, n) =>
      finder.add({ id: `b-${n}`, version: 1, created: new Date(n * 1000).toISOString(), updated: '', data }),
    );
    const schema = proposeSchema(finder.find()) as {
      properties: Record<string, JsonObject>;
      required: string[];
    } & JsonObject;
    const judge = compileSchema(schema);
    for (const data of documents) expect(judge(data)).to.deep.equal([]);
    expect(schema.required).to.include.members(['name', 'altitude', 'stops']).and.not.include('pilot');
    expect(schema.properties.status).to.deep.equal({ type: 'string', enum: ['aloft', 'packed'] });
    expect(schema.properties.altitude!.type).to.have.members(['integer', 'string']);
    expect(schema.properties.fuel).to.deep.equal({ type: 'number' });
    expect(schema.properties.start).to.deep.equal({ type: 'string', format: 'date-time' });
    expect((schema.properties.pilot as { required: string[] }).required).to.have.members(['name', 'hours', 'odd.name']);
    expect(judge({ ...documents[1], name: 7 })).to.deep.equal([
      { pointer: '/name', detail: 'must be string', rule: 'type' },
    ]);
    expect(judge({ ...documents[1], stops: [{ at: 'x' }] })[0]!.pointer).to.equal('/stops/0/at');
  });
});

describe('the schema of a collection', () => {
  let service: TestService;
  beforeEach(async () => {
    service = await TestService.start({ tokens: TOKEN_SETTINGS });
    await service.request('PUT', '/v1/data/balloons/b-1', { name: 'Amber', altitude: 3 });
  });
  afterEach(() => service.stop());
  const set = (body: object) => service.request('PUT', '/v1/schemas/balloons', body);

  it('refuses every kind of write that does not fit, with the pointer of each violation', async () => {
    expect((await set({ schema: SCHEMA, mode: 'enforce' })).json).to.include({ version: 1, mode: 'enforce' });
    const wrong = await service.request('PUT', '/v1/data/balloons/b-2', { altitude: -1, pilot: { hours: 1.5, x: 1 } });
    expect(wrong.status).to.equal(422);
    expect(wrong.json).to.include({ type: '/problems/schema-violation', document: 'balloons/b-2' });
    expect((wrong.json.violations as { pointer: string }[]).map(({ pointer }) => pointer)).to.have.members([
      '/name',
      '/altitude',
      '/pilot/hours',
      '/pilot/x',
    ]);
    const refused = async (method: string, path: string, body: unknown, type?: string) => {
      const { status, json } = await service.request(
        method,
        path,
        body,
        type === undefined ? {} : { 'content-type': type },
      );
      expect(status, `${method} ${path}`).to.equal(422);
      expect(json.type).to.equal('/problems/schema-violation');
      return json.pointer as string;
    };
    expect(await refused('POST', '/v1/data/balloons', {})).to.equal('/name');
    expect(await refused('PATCH', '/v1/data/balloons/b-1', { name: null })).to.equal('/name');
    expect(
      await refused(
        'PATCH',
        '/v1/data/balloons/b-1',
        [{ op: 'add', path: '/status', value: 'lost' }],
        'application/json-patch+json',
      ),
    ).to.equal('/status');
    expect(
      await refused(
        'PATCH',
        '/v1/data/balloons/b-1',
        { '/altitude': { add: -9 } },
        'application/vnd.uproar.adjust+json',
      ),
    ).to.equal('/altitude');
    expect(
      await refused('POST', '/v1/commits', {
        writes: [
          { put: 'balloons/b-3', data: { name: 'x' } },
          { put: 'balloons/b-4', data: {} },
        ],
      }),
    ).to.equal('/name');
    expect((await service.request('GET', '/v1/data/balloons/b-3')).status, 'nothing of the commit').to.equal(404);
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    const { error } = await socket.call('commit', { id: 'one', writes: [{ put: 'balloons/b-5', data: {} }] });
    expect(error.data).to.include({ type: '/problems/schema-violation', pointer: '/name' });
    // Under another schema the same commit is validated again.
    await set({ mode: 'off' });
    expect(
      (await socket.call('commit', { id: 'one', writes: [{ put: 'balloons/b-5', data: {} }] })).result.documents,
    ).to.have.length(1);
    socket.socket.terminate();
    expect((await service.request('DELETE', '/v1/data/balloons/b-1')).status).to.equal(204);
  });

  it('warns of what does not fit, and lets it be done', async () => {
    await set({ schema: SCHEMA, mode: 'warn' });
    const answer = await service.request('PUT', '/v1/data/balloons/b-2', { altitude: -1 });
    expect(answer.status).to.equal(201);
    expect(answer.headers.get('schema-violations')).to.equal('/name is missing; /altitude must be >= 0');
    const receipt = (
      await service.request('POST', '/v1/commits', {
        writes: [
          { put: 'pads/p', data: {} },
          { merge: 'balloons/b-2', data: { altitude: -2 } },
        ],
      })
    ).json;
    expect(receipt.warnings).to.have.length(1);
    expect(receipt.warnings[0]).to.include({ write: 1, document: 'balloons/b-2' });
    const fine = await service.request('PUT', '/v1/data/balloons/b-3', { name: 'x' });
    expect(fine.headers.has('schema-violations')).to.equal(false);
  });

  it('is checked against all documents before it is enforced, including concurrent writes', async () => {
    await service.request('PUT', '/v1/data/balloons/b-2', { name: 4 });
    const report = (await service.request('POST', '/v1/schemas/balloons/check', { schema: SCHEMA })).json;
    expect(report).to.include({ documents: 2, violations: 1 });
    expect(report.examples).to.deep.equal([
      { id: 'b-2', violations: [{ pointer: '/name', detail: 'must be string', rule: 'type' }] },
    ]);
    const refused = await set({ schema: SCHEMA, mode: 'enforce' });
    expect(refused.status).to.equal(409);
    expect(refused.json.detail).to.include('b-2');
    expect((await service.request('GET', '/v1/schemas/balloons')).status, 'nothing was set').to.equal(404);
    expect((await set({ schema: SCHEMA, mode: 'enforce', anyway: true })).status).to.equal(200);
    await service.request('PATCH', '/v1/data/balloons/b-2', { name: 'mended' });
    expect((await set({ mode: 'enforce', note: 'all mended' })).json).to.include({ version: 2, note: 'all mended' });
    expect((await service.request('GET', '/v1/schemas/balloons?version=1')).json).to.include({ version: 1 });
    expect((await service.request('GET', '/v1/schemas/balloons?version=9')).status).to.equal(404);
    await service.restart();
    expect((await service.request('PUT', '/v1/data/balloons/b-9', {})).status, 'after a restart').to.equal(422);
    expect((await service.request('DELETE', '/v1/schemas/balloons')).status).to.equal(204);
    expect((await service.request('PUT', '/v1/data/balloons/b-9', {})).status).to.equal(201);
  });

  it('is refused when it is invalid, or the caller may not set it', async () => {
    const refused = async (schema: unknown) => {
      const { status, json } = await set({ schema });
      expect(status, JSON.stringify(schema)).to.equal(422);
      return json.detail as string;
    };
    expect(await refused({ type: 'obj' })).to.include('/type');
    expect(await refused({ propertys: {} })).to.include('propertys');
    expect(await refused({ $ref: 'https://schemas.example/other.json' })).to.include('cannot be used');
    expect(await refused({ properties: { a: { pattern: '(' } } })).to.include('cannot be used');
    expect(await refused({ description: 'x'.repeat(300_000) })).to.include('at most');
    expect((await set({ mode: 'warn' })).json.type).to.equal('/problems/no-such-schema');
    const ask = service.as(await makeToken({ sub: 'ada' }));
    expect((await ask('GET', '/v1/schemas')).status).to.equal(403);
    expect((await ask('PUT', '/v1/schemas/balloons', { schema: {} })).status).to.equal(403);
  });

  it('reveals no concealed fields', async () => {
    await service.request('PUT', '/v1/data/balloons/b-1', { name: 'a', secret: 'x' });
    await service.setPolicy({
      collections: { balloons: { read: true, update: true, create: true, conceal: ['secret'] } },
    });
    await set({ schema: { properties: { secret: { type: 'number' } } }, mode: 'enforce', anyway: true });
    const ask = service.as(await makeToken({ sub: 'ada' }));
    const refused = await ask('PATCH', '/v1/data/balloons/b-1', { name: 'b' });
    expect(refused.status).to.equal(422);
    expect(refused.json.violations).to.deep.equal([]);
    expect(refused.text).not.to.include('secret').and.not.include('number');
  });

  it('takes hostile data in its stride', async () => {
    await set({ schema: { properties: { list: { type: 'array', items: { type: 'string' } } } }, mode: 'enforce' });
    const started = performance.now();
    const { json } = await service.request('PUT', '/v1/data/balloons/b-2', {
      list: Array.from({ length: 300_000 }, () => 1),
    });
    expect(json.violations).to.have.length(1);
    expect(performance.now() - started).to.be.below(30_000);
    const proto = await service.request('PUT', '/v1/data/balloons/b-3', '{"__proto__":{"list":[1]},"constructor":1}');
    expect(proto.status).to.equal(201);
  });

  it('makes explain report what no document can satisfy', async () => {
    await set({ schema: { ...SCHEMA, additionalProperties: false }, mode: 'warn' });
    const warnings = async (where: string) =>
      ((await service.request('POST', '/v1/explain', { from: 'balloons', where })).json.warnings as string[]).join(' ');
    expect(await warnings("altitude = 'high'")).to.include('According to the schema, altitude is number');
    expect(await warnings("status = 'lost'")).to.include('According to the schema, status is one of "packed", "aloft"');
    expect(await warnings('altitud > 3')).to.include('The schema has no field altitud.');
    expect(await warnings("altitude > 3 AND status IN ('packed', 'x')")).not.to.include('According to the schema');
  });
});
