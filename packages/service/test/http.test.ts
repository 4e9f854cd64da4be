import { expect } from 'chai';
import { Listing, PROBLEMS, WireDocument, type ProblemName } from '@uproar/protocol';
import { connect as openTcp } from 'node:net';
import { KEY, TestService, until, type HttpAnswer } from '../../../test/service.js';

describe('documents over HTTP', () => {
  let service: TestService;
  before(async () => (service = await TestService.start({ documentLimits: { sizeBytes: 2000, depth: 8 } })));
  after(() => service.stop());

  const expectProblem = (answer: HttpAnswer, name: ProblemName): void => {
    expect(answer.json, answer.text).to.include({ type: `/problems/${name}`, ...PROBLEMS[name] });
    expect(answer.status).to.equal(PROBLEMS[name].status);
    expect(answer.headers.get('content-type')).to.match(/^application\/problem\+json/);
    expect(answer.json.detail).to.have.length.above(20);
  };

  it('are created, read, replaced, merged and deleted', async () => {
    const created = await service.request('PUT', '/v1/data/balloons/bl-1', { name: 'Amber', fuel: 5 });
    expect(created.status).to.equal(201);
    expect(created.headers.get('location')).to.equal('/v1/data/balloons/bl-1');
    expect(created.headers.get('etag')).to.equal(`"${created.json.version}"`);
    expect(WireDocument.safeParse(created.json).success).to.equal(true);

    const read = await service.request('GET', '/v1/data/balloons/bl-1');
    expect(read.json).to.deep.equal(created.json);

    const merged = await service.request('PATCH', '/v1/data/balloons/bl-1', { fuel: null, pad: 'p-1' });
    expect(merged.json).to.deep.include({ data: { name: 'Amber', pad: 'p-1' }, created: created.json.created });
    expect(merged.json.version).to.equal(created.json.version + 1);

    const replaced = await service.request('PUT', '/v1/data/balloons/bl-1', { name: 'Coral' });
    expect(replaced.status).to.equal(200);
    expect(replaced.json.data).to.deep.equal({ name: 'Coral' });

    expect((await service.request('DELETE', '/v1/data/balloons/bl-1')).status).to.equal(204);
    expectProblem(await service.request('GET', '/v1/data/balloons/bl-1'), 'no-such-document');
    expectProblem(await service.request('DELETE', '/v1/data/balloons/bl-1'), 'no-such-document');
    expectProblem(await service.request('PATCH', '/v1/data/balloons/bl-1', {}), 'no-such-document');
  });

  it('get generated ids that sort in the order of creation', async () => {
    const ids: string[] = [];
    for (let n = 0; n < 20; n++) {
      const { status, headers, json } = await service.request('POST', '/v1/data/notices', { n });
      expect(status).to.equal(201);
      expect(headers.get('location')).to.equal(`/v1/data/notices/${json.id}`);
      ids.push(json.id as string);
    }
    expect([...ids].sort()).to.deep.equal(ids);
    const listing = Listing.parse((await service.request('GET', '/v1/data/notices')).json);
    expect(listing.documents.map(({ data }) => data.n)).to.deep.equal(ids.map((_, n) => n));
  });

  it('are listed in the order of ids, part after part, each once', async () => {
    for (let n = 0; n < 25; n++) await service.request('PUT', `/v1/data/pads/p-${n}`, { n });
    const found: string[] = [];
    let path: string | undefined = '/v1/data/pads?limit=7';
    while (path !== undefined) {
      const { json, headers } = await service.request('GET', path);
      found.push(...(json.documents as { id: string }[]).map(({ id }) => id));
      const link = headers.get('link');
      expect(Boolean(link)).to.equal(json.more);
      path = /^<([^>]+)>; rel="next"$/.exec(link ?? '')?.[1];
    }
    expect(found).to.deep.equal(Array.from({ length: 25 }, (_, n) => `p-${n}`).sort());
    expectProblem(await service.request('GET', '/v1/data/pads?after=nonsense'), 'bad-cursor');
    expectProblem(await service.request('GET', '/v1/data/pads?limit=0'), 'bad-query');
    expectProblem(await service.request('GET', '/v1/data/pads?limit=10001'), 'bad-query');
    expectProblem(await service.request('GET', '/v1/data/pads?limit=ten'), 'bad-request');
    expect((await service.request('GET', '/v1/data/pads?limt=3')).json.detail)
      .to.include('limt')
      .and.include('limit');
  });

  it('keep odd but valid data exactly as it was sent', async () => {
    const text =
      '{"__proto__":{"x":1},"constructor":"c","":0,"a/b~c":[1.5,-0.25,1e300],"\u{1F388}":"\\u0000é","empty":{}}';
    const written = await service.request('PUT', '/v1/data/odd/proto', text);
    expect(written.status, written.text).to.equal(201);
    const read = await service.request('GET', '/v1/data/odd/proto');
    expect(read.text).to.include('"__proto__":{"x":1}').and.include('"constructor":"c"');
    expect(JSON.stringify(read.json.data)).to.equal(JSON.stringify(JSON.parse(text)));
  });

  it('honour If-Match, If-None-Match and HEAD', async () => {
    const path = '/v1/data/gates/g-1';
    const put = (headers: Record<string, string>) => service.request('PUT', path, { n: 1 }, headers);
    expectProblem(await put({ 'if-match': '*' }), 'precondition-failed');
    const first = await put({ 'if-none-match': '*' });
    expect(first.status).to.equal(201);
    const tag = first.headers.get('etag')!;
    const stale = await put({ 'if-match': '"999"' });
    expectProblem(stale, 'precondition-failed');
    expect(stale.json).to.include({ document: 'gates/g-1', currentVersion: first.json.version });
    expectProblem(await put({ 'if-none-match': '*' }), 'precondition-failed');
    expectProblem(await put({ 'if-none-match': tag }), 'precondition-failed');
    expectProblem(await put({ 'if-match': `W/${tag}` }), 'precondition-failed');
    expectProblem(await put({ 'if-match': 'unquoted' }), 'bad-request');
    expectProblem(await service.request('PATCH', path, {}, { 'if-match': '"999"' }), 'precondition-failed');
    expectProblem(await service.request('DELETE', path, undefined, { 'if-match': '"999"' }), 'precondition-failed');
    expect((await service.request('GET', path)).headers.get('etag'), 'nothing was written').to.equal(tag);

    const unchanged = await service.request('GET', path, undefined, { 'if-none-match': `"1", W/${tag}` });
    expect([unchanged.status, unchanged.text, unchanged.headers.get('etag')]).to.deep.equal([304, '', tag]);
    expectProblem(await service.request('GET', path, undefined, { 'if-match': '"1"' }), 'precondition-failed');
    const head = await service.request('HEAD', path);
    expect([head.status, head.text, head.headers.get('etag')]).to.deep.equal([200, '', tag]);
    expect((await put({ 'if-match': `"7", ${tag}` })).status).to.equal(200);
  });

  it('refuse bad input, each with its own problem, and write nothing of it', async () => {
    const seqBefore = (await service.request('GET', '/v1/collections')).json.seq;
    const put = (body: unknown, headers?: Record<string, string>, path = '/v1/data/bad/x') =>
      service.request('PUT', path, body, headers);
    const nested = (levels: number): unknown => (levels === 0 ? 1 : [nested(levels - 1)]);
    expectProblem(await put({ a: 'x'.repeat(2100) }), 'too-large');
    expectProblem(await put({ a: 'x'.repeat(9000) }), 'too-large');
    expectProblem(await put({ a: nested(8) }), 'bad-document');
    expectProblem(await put([1]), 'bad-document');
    expectProblem(await put('null'), 'bad-document');
    expectProblem(await put('"text"'), 'bad-document');
    const surrogate = await put('{"a":{"b":"\\ud800"}}');
    expectProblem(surrogate, 'bad-document');
    expect(surrogate.json.pointer).to.equal('/a/b');
    expectProblem(await put('{"a":1,"a":2}'), 'bad-json');
    const broken = await put('{"a":tru}');
    expectProblem(broken, 'bad-json');
    expect(broken.json.position).to.equal(5);
    expectProblem(await put(''), 'bad-json');
    expectProblem(await put('{"n":12345678901234567890}'), 'bad-json');
    expectProblem(await put(new Uint8Array([0x7b, 0x22, 0xff, 0x22, 0x3a, 0x31, 0x7d])), 'bad-json');
    expectProblem(await put({}, { 'content-type': 'text/plain' }), 'unsupported-type');
    expectProblem(
      await service.request('PATCH', '/v1/data/bad/x', {}, { 'content-type': 'application/json' }),
      'unsupported-type',
    );
    expectProblem(await put({}, {}, '/v1/data/bad/a%2Fb'), 'bad-id');
    expectProblem(await put({}, {}, `/v1/data/bad/${'x'.repeat(129)}`), 'bad-id');
    expectProblem(await put({}, {}, '/v1/data/Bad/x'), 'bad-collection');
    expectProblem(await put({}, {}, '/v1/data/bad/%zz'), 'bad-request');
    expectProblem(await service.request('GET', '/v1/nothing'), 'no-such-route');
    const method = await service.request('POST', '/v1/collections', {});
    expectProblem(method, 'method-not-allowed');
    expect(method.headers.get('allow')).to.equal('GET, HEAD');
    expectProblem(await service.request('GET', '/v1/data/bad', undefined, { accept: 'image/png' }), 'not-acceptable');
    const after = (await service.request('GET', '/v1/collections')).json;
    expect(after.seq).to.equal(seqBefore);
    expect((after.documents as { id: string }[]).map(({ id }) => id)).not.to.include('bad');
  });

  it('ignores the offer of another protocol, as the HTTP client of Java makes it with each first request', async () => {
    const { port } = new URL(service.url);
    const socket = openTcp(Number(port), '127.0.0.1');
    let heard = '';
    socket.on('data', (bytes) => (heard += String(bytes)));
    const offer = 'Connection: Upgrade, HTTP2-Settings, keep-alive\r\nHTTP2-Settings: AAMAAABk\r\nUpgrade: h2c\r\n';
    const common = `Host: store\r\nAuthorization: Bearer ${KEY}\r\n`;
    const body = JSON.stringify({ name: 'Ämber', filler: 'x'.repeat(1500) });
    const length = Buffer.byteLength(body);
    const warnings: string[] = [];
    const onWarning = ({ message }: Error) => warnings.push(message);
    process.on('warning', onWarning);
    try {
      const put = `PUT /v1/data/offers/o-1 HTTP/1.1\r\n${common}${offer}Content-Type: application/json\r\nContent-Length: ${length}\r\n\r\n`;
      socket.write(put + body.slice(0, 40));
      await new Promise((resolve) => setTimeout(resolve, 50));
      socket.write(body.slice(40));
      await until('the body is taken', () => heard.includes('HTTP/1.1 201'));
      for (let turn = 1; turn <= 15; turn++) {
        socket.write(`GET /v1/data/offers/o-1 HTTP/1.1\r\n${common}${turn % 5 === 0 ? '' : offer}\r\n`);
        await until(`answer ${turn}`, () => heard.split('HTTP/1.1 200').length === turn + 1 && heard.endsWith('}'));
      }
      expect(heard.split('Ämber'), 'answers with the document').to.have.length(17);
      expect(heard).not.to.include('no-such-route');
      expect(warnings).to.deep.equal([]);
    } finally {
      process.off('warning', onWarning);
      socket.destroy();
    }
    expect((await service.request('GET', '/v1/data/offers/o-1')).json.data.name).to.equal('Ämber');
    const { json } = await service.request('GET', '/v1/metrics/samples');
    expect(json, 'the service goes on').to.be.an('object');
  });

  it('take a document at the limit of size, and refuse a merge that would grow over it', async () => {
    const fits = { a: 'x'.repeat(2000 - '{"a":""}'.length) };
    expect((await service.request('PUT', '/v1/data/sizes/s', fits)).status).to.equal(201);
    expectProblem(await service.request('PATCH', '/v1/data/sizes/s', { b: 1 }), 'too-large');
    expect((await service.request('GET', '/v1/data/sizes/s')).json.data).to.deep.equal(fits);
  });

  it('suggest similar names when a collection does not exist', async () => {
    await service.request('PUT', '/v1/data/balloons/bl-5', {});
    const { json } = await service.request('GET', '/v1/data/baloons');
    expect(json.documents).to.deep.equal([]);
    expect(json.notes[0]).to.include('Did you mean "balloons"');
  });

  it('are not served without the key, nor is anything but health and descriptions', async () => {
    for (const authorization of ['', 'Basic abc', 'Bearer', 'Bearer wrong-key-0123456789']) {
      for (const path of ['/v1/data/balloons', '/v1/data/balloons/bl-5', '/v1/collections', '/v1/nothing']) {
        const answer = await service.request('GET', path, undefined, { authorization });
        expectProblem(answer, authorization.startsWith('Bearer wrong') ? 'key-unknown' : 'key-missing');
        expect(answer.headers.get('www-authenticate')).to.include('Bearer');
      }
    }
    expect((await service.request('GET', '/healthz', undefined, { authorization: '' })).json).to.deep.equal({
      status: 'ok',
      keyless: false,
    });
  });

  it('are counted, collection by collection', async () => {
    await service.request('PUT', '/v1/data/counted/a', { x: 1 });
    await service.request('PUT', '/v1/data/counted/b', { x: 22 });
    await service.request('PUT', '/v1/data/counted/b', { x: 333 });
    await service.request('DELETE', '/v1/data/counted/a');
    const { json } = await service.request('GET', '/v1/collections');
    const counted = (json.documents as { id: string; version: number; data: unknown }[]).find(
      ({ id }) => id === 'counted',
    );
    expect(counted).to.deep.include({ version: json.seq, data: { documents: 1, sizeBytes: '{"x":333}'.length } });
  });

  it('are described by an OpenAPI document that names every route', async () => {
    const { json } = await service.request('GET', '/openapi.json');
    expect(json.openapi).to.equal('3.1.0');
    expect(Object.keys(json.paths as object)).to.have.members([
      '/healthz',
      '/readyz',
      '/metrics',
      '/openapi.json',
      '/asyncapi.json',
      '/v1/cluster',
      '/v1/cluster/contents/{sha256}',
      '/v1/cluster/tickets',
      '/v1/cluster/trial',
      '/v1/collections',
      '/v1/data/{collection}',
      '/v1/data/{collection}/{id}',
      '/v1/commits',
      '/v1/tickets',
      '/v1/backups',
      '/v1/backups/{id}',
      '/v1/backups/{id}/content',
      '/v1/files',
      '/v1/files/{id}/content',
      '/v1/files/{id}/link',
      '/v1/query',
      '/v1/explain',
      '/v1/indexes',
      '/v1/indexes/{id}',
      '/v1/hooks',
      '/v1/hooks/{hook}',
      '/v1/hooks/{hook}/pause',
      '/v1/hooks/{hook}/resume',
      '/v1/hooks/{hook}/rotate',
      '/v1/hooks/{hook}/test',
      '/v1/hooks/{hook}/deliveries',
      '/v1/hooks/{hook}/deliveries/{number}',
      '/v1/hooks/{hook}/deliveries/{number}/send',
      '/v1/setup',
      '/v1/erasures',
      '/v1/erasures/{id}',
      '/v1/journal',
      '/v1/keys',
      '/v1/keys/{key}',
      '/v1/keys/{key}/rotate',
      '/v1/policy',
      '/v1/policy/preview',
      '/v1/policy/revert',
      '/v1/policy/try',
      '/v1/policy/versions',
      '/v1/accounts',
      '/v1/accounts/guests',
      '/v1/accounts/me',
      '/v1/accounts/me/credentials',
      '/v1/accounts/me/password',
      '/v1/accounts/{account}',
      '/v1/sessions',
      '/v1/sessions/current',
      '/v1/sessions/refresh',
      '/v1/audit',
      '/v1/connections',
      '/v1/connections/{id}',
      '/v1/metrics/samples',
      '/v1/metrics/queries',
      '/v1/metrics/views',
      '/v1/usage',
      '/v1/schemas',
      '/v1/schemas/{collection}',
      '/v1/schemas/{collection}/proposal',
      '/v1/schemas/{collection}/check',
      '/v1/shapes/{collection}',
    ]);
    expect(Object.keys(json.paths['/v1/data/{collection}/{id}'] as object)).to.include.members([
      'get',
      'put',
      'patch',
      'delete',
    ]);
    expect(Object.keys(json.components.schemas as object)).to.include.members(['Document', 'Problem']);
    expect(json.paths['/v1/data/{collection}/{id}'].patch.requestBody.content).to.have.property(
      'application/merge-patch+json',
    );
  });

  it('survive a client that speaks no HTTP', async () => {
    const { hostname, port } = new URL(service.url);
    const said = await new Promise<string>((resolve) => {
      let text = '';
      const socket = openTcp(Number(port), hostname, () => socket.write('GARBAGE\r\n\r\n'));
      socket.on('data', (chunk) => (text += String(chunk)));
      socket.on('close', () => resolve(text));
    });
    expect(said).to.match(/^HTTP\/1\.1 400/);
    expect((await service.request('GET', '/healthz')).status).to.equal(200);
  });
});
