import { Parser } from '@asyncapi/parser';
import { Document, Spectral } from '@stoplight/spectral-core';
import * as parsers from '@stoplight/spectral-parsers';
import { oas } from '@stoplight/spectral-rulesets';
import { Ajv } from 'ajv';
import addFormats from 'ajv-formats';
import { expect } from 'chai';
import { StreamReader } from '../../../test/event-stream.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, TestService, until } from '../../../test/service.js';

describe('the descriptions for machines', function () {
  this.timeout(60_000);
  let service: TestService;
  before(async () => {
    service = await TestService.start();
  });
  after(() => service.stop());
  const read = async (path: string) => (await service.request('GET', path)).text;

  it('OpenAPI has no fault that a linter would find', async () => {
    const spectral = new Spectral();
    // A summary is enough for a simple route, and there is nobody to be asked about a service one runs oneself.
    spectral.setRuleset({ extends: [oas as never], rules: { 'operation-description': 'off', 'info-contact': 'off' } });
    const text = await read('/openapi.json');
    const faults = await spectral.run(new Document(text, parsers.Json, 'openapi.json'));
    expect(faults.map(({ code, path, message }) => `${code} ${path.join('.')}: ${message}`)).to.deep.equal([]);
    // The linter does bite.
    const broken = text.replace('"operationId":"getHealthz"', '"operationId":"getReadyz"');
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
      ...['hello', 'watch', 'unwatch', 'query', 'get', 'commit'].map((name) => `call-${name}`),
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
});
