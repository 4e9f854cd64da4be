import { Parser } from '@asyncapi/parser';
import { Document, Spectral } from '@stoplight/spectral-core';
import parsers from '@stoplight/spectral-parsers';
import { oas } from '@stoplight/spectral-rulesets';
import { Ajv } from 'ajv';
import addFormats from 'ajv-formats';
import { expect } from 'chai';
import { StreamReader } from '../../../test/event-stream.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, TestService, until } from '../../../test/service.js';

describe('the descriptions for machines', () => {
  let service: TestService;
  before(async () => {
    service = await TestService.start();
  });
  after(() => service.stop());
  const read = async (path: string) => {
    const { status, text } = await service.request('GET', path);
    expect(status, text.slice(0, 500)).to.equal(200);
    return text;
  };

  it('OpenAPI has no fault that a linter would find', async () => {
    const spectral = new Spectral();
    // A summary is enough for a simple route, and a self-hosted service has no contact.
    spectral.setRuleset({ extends: [oas as never], rules: { 'operation-description': 'off', 'info-contact': 'off' } });
    const text = await read('/openapi.json');
    const faults = await spectral.run(new Document(text, parsers.Json, 'openapi.json'));
    expect(faults.map(({ code, path, message }) => `${code} ${path.join('.')}: ${message}`)).to.deep.equal([]);
    // The linter does bite.
    const broken = text.replace('"operationId":"checkHealth"', '"operationId":"checkReadiness"');
    expect((await spectral.run(new Document(broken, parsers.Json, 'broken.json'))).map(({ code }) => code)).to.include(
      'operation-operationId-unique',
    );
  });

  it('AsyncAPI is taken by its own parser, and names every call, notification and event', async () => {
    const parser = new Parser();
    const { document, diagnostics } = await parser.parse(await read('/asyncapi.json'));
    // That there is a newer version of AsyncAPI is no fault.
    expect(diagnostics.filter(({ code }) => code !== 'asyncapi-latest-version')).to.deep.equal([]);
    const operations = document!.allOperations().map((operation) => operation.id());
    expect(operations).to.have.members([
      ...['hello', 'watch', 'unwatch', 'query', 'get', 'commit', 'release'].map((name) => `call-${name}`),
      ...['change', 'reset', 'end', 'accepted', 'alive'].map((name) => `notify-${name}`),
      ...['query', 'document', 'collections', 'journal'].map((name) => `stream-${name}`),
    ]);
  });

  it('what comes over the wire is as it is described', async () => {
    const description = JSON.parse(await read('/asyncapi.json')) as {
      components: { schemas: object; messages: Record<string, { payload: object }> };
    };
    const ajv = new Ajv({ strict: false });
    addFormats.default(ajv);
    ajv.addSchema({ $id: 'store', components: description.components });
    const check = (message: string, value: unknown) => {
      const fits = ajv.validate({ $ref: `store#/components/messages/${message}/payload` }, value);
      expect(fits, `${message}: ${ajv.errorsText()} in ${JSON.stringify(value)}`).to.equal(true);
    };

    const stream = await StreamReader.open(`${service.url}/v1/data/balloons`);
    const journal = await StreamReader.open(`${service.url}/v1/journal`);
    const socket = await RawSocket.open(service);
    const calls: [string, object][] = [
      ['hello', { token: KEY, device: 'truck-1' }],
      ['watch', { query: { from: 'balloons', where: 'n > 0', include: 'crew = crews via crewId' } }],
      ['watch', { query: { from: 'balloons', summary: 'count(),sum(n)' } }],
      ['watch', { collections: true }],
      [
        'commit',
        {
          id: 'one',
          writes: [
            { put: 'balloons/b-1', data: { n: 1 } },
            { create: 'crews', data: {} },
          ],
        },
      ],
      ['commit', { writes: [{ adjust: 'balloons/b-1', by: { '/n': { add: 1 } } }] }],
      ['get', { doc: 'balloons/b-1' }],
      ['query', { from: 'balloons', fields: 'n' }],
      ['get', { doc: 'balloons/none' }],
      ['fly', {}],
      ['unwatch', { watch: 'w1' }],
      ['release', { doc: 'online/a' }],
    ];
    for (const [method, params] of calls) {
      const answer = (await socket.call(method, params)) as { error?: unknown };
      if (method !== 'fly') check(`live-${method}`, { jsonrpc: '2.0', id: 1, method, params });
      check(answer.error ? 'live-refused' : `live-${method}-answer`, answer);
    }
    const notifications = socket.heard.filter(({ method }) => method !== undefined) as { method: string }[];
    expect(new Set(notifications.map(({ method }) => method)))
      .to.include('change')
      .and.include('accepted');
    for (const notification of notifications) check(`live-notification-${notification.method}`, notification);

    await until('events have come', () => stream.events.length >= 3 && journal.events.length >= 3);
    for (const { event, data } of stream.events) check(`event-${event}`, data);
    for (const { event, data } of journal.events) check(`journal-${event}`, data);
    // A message that is something else is found out.
    expect(() => check('event-result', { seq: 1, documents: {} })).to.throw();
    stream.close();
    journal.close();
    socket.socket.terminate();
  });

  it('what HTTP answers is as it is described, in status, media type, header fields and body', async () => {
    interface Media {
      schema?: object;
    }
    interface Operation {
      parameters?: { in: string; name: string }[];
      requestBody?: { content: Record<string, Media> };
      responses: Record<
        string,
        { headers?: object; content?: Record<string, Media>; 'x-other-formats'?: Record<string, Media> }
      >;
    }
    const description = JSON.parse(await read('/openapi.json')) as {
      paths: Record<string, Record<string, Operation>>;
      components: object;
    };
    const ajv = new Ajv({ strict: false });
    addFormats.default(ajv);
    ajv.addSchema({ $id: 'api', components: description.components });
    const patch = 'application/merge-patch+json';
    type Asked = [method: string, path: string, address: string, headers?: Record<string, string>, body?: unknown];
    const document = '/v1/data/{collection}/{id}';
    const content = '/v1/files/{id}/content';
    const requests: Asked[] = [
      ['PUT', document, '/v1/data/pads/p-1', { 'if-none-match': '*' }, { name: 'Meadow' }],
      ['PUT', document, '/v1/data/pads/p-1', { 'if-none-match': '*' }, { name: 'Meadow' }],
      ['POST', '/v1/data/{collection}', '/v1/data/pads', { 'idempotency-key': 'k-1' }, { name: 'Hill' }],
      ['PATCH', document, '/v1/data/pads/p-1', { 'content-type': patch, 'idempotency-key': 'k-2' }, { open: true }],
      ['GET', document, '/v1/data/pads/p-1', { 'if-none-match': '"0"' }],
      ['GET', document, '/v1/data/pads/none'],
      ['GET', '/v1/data/{collection}', '/v1/data/pads'],
      ['GET', '/v1/data/{collection}', '/v1/data/pads', { accept: 'text/csv' }],
      ['GET', '/v1/data/{collection}', '/v1/data/pads', { accept: 'application/x-ndjson' }],
      ['POST', '/v1/query', '/v1/query', {}, { from: 'pads', summary: 'count()' }],
      ['POST', '/v1/query', '/v1/query', {}, { from: 'pads', where: '(' }],
      ['POST', '/v1/explain', '/v1/explain', {}, { from: 'pads' }],
      ['POST', '/v1/commits', '/v1/commits', { 'idempotency-key': 'k-3' }, { writes: [{ delete: 'pads/p-1' }] }],
      [
        'PUT',
        content,
        `/v1/files/f-1/content`,
        { 'content-type': 'image/png', 'if-none-match': '*' },
        Buffer.from('abc'),
      ],
      ['GET', content, `/v1/files/f-1/content`, { range: 'bytes=0-1' }],
      ['GET', content, `/v1/files/f-1/content`, { range: 'bytes=9-' }],
      ['POST', '/v1/files/{id}/link', '/v1/files/f-1/link', {}, {}],
      ['GET', '/v1/collections', '/v1/collections'],
      ['GET', '/v1/journal', '/v1/journal?after=0'],
      ['GET', '/v1/journal', '/v1/journal?after=0', { accept: 'application/x-ndjson' }],
      ['GET', '/v1/keys', '/v1/keys'],
      ['GET', '/v1/metrics/samples', '/v1/metrics/samples'],
      ['GET', '/metrics', '/metrics'],
      ['GET', '/healthz', '/healthz'],
      ['GET', '/readyz', '/readyz'],
    ];
    const always = ['content-type', 'accept'];
    for (const [method, path, address, asked = {}, body] of requests) {
      const what = `${method} ${address} ${JSON.stringify(asked)}`;
      const operation = description.paths[path]![method.toLowerCase()]!;
      const heeded = (operation.parameters ?? []).filter((one) => one.in === 'header').map(({ name }) => name);
      for (const name of Object.keys(asked).filter((one) => !always.includes(one)))
        expect(
          heeded.map((one) => one.toLowerCase()),
          what,
        ).to.include(name);
      const { status, headers, text } = await service.request(method, address, body, asked);
      const described = operation.responses[status] ?? operation.responses.default!;
      expect(status >= 400, `${what} ${status}`).to.equal(described === operation.responses.default);
      for (const name of Object.keys(described.headers ?? {}))
        expect(headers.has(name), `${what} ${name}`).to.equal(true);
      if (status === 304 || status === 204) continue;
      const type = headers.get('content-type')!.split(';')[0]!;
      const media = described.content?.[type] ?? described['x-other-formats']?.[type] ?? described.content?.['*/*'];
      expect(media, `${what}: ${type} is one of ${Object.keys(described.content ?? {}).join()}`).not.to.equal(
        undefined,
      );
      if (!/[/+]json$/.test(type) || !media!.schema) continue;
      const schema = JSON.parse(
        JSON.stringify(media!.schema).replaceAll('"#/components', '"api#/components'),
      ) as object;
      expect(ajv.validate(schema, JSON.parse(text)), `${what}: ${ajv.errorsText()} in ${text}`).to.equal(true);
    }
    const upload = description.paths[content]!.put!.requestBody!;
    expect(Object.keys(upload.content)).to.deep.equal(['*/*']);
    const bodies = description.paths[document]!.patch!.requestBody!.content;
    expect(JSON.stringify(bodies[patch])).to.include('/DataInput').and.not.to.include('/PatchOperationsInput');
  });
});
