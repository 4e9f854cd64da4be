import { X509Certificate } from 'node:crypto';
import { connect as connectTcp } from 'node:net';
import { connect } from 'node:tls';
import { context, propagation, trace } from '@opentelemetry/api';
import { AsyncLocalStorageContextManager } from '@opentelemetry/context-async-hooks';
import { BasicTracerProvider, InMemorySpanExporter, SimpleSpanProcessor } from '@opentelemetry/sdk-trace-base';
import { expect } from 'chai';
import { connectionOf } from '../dist/store/index.js';
import { makeCertificate } from '../../../test/certificate.js';
import { StreamReader } from '../../../test/event-stream.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, temporaryDirectory, TestService, until } from '../../../test/service.js';

/** The value of a metric with its labels, as Prometheus reads it; undefined when it is not there. */
function readMetric(text: string, name: string): number | undefined {
  const line = text.split('\n').find((one) => one.startsWith(`${name} `));
  return line === undefined ? undefined : Number(line.slice(name.length + 1));
}

describe('the metrics', () => {
  let service: TestService;
  before(async () => {
    service = await TestService.start({ maxUnreadBytes: 16 * 1024 });
  });
  after(() => service.stop());
  const metrics = async () => (await service.request('GET', '/metrics')).text;

  it('count commits, writes, refusals, requests and deliveries, with how long each took', async () => {
    const stream = await StreamReader.open(`${service.url}/v1/data/balloons?limit=2`);
    await service.request('POST', '/v1/commits', {
      writes: [1, 2, 3].map((n) => ({ put: `balloons/b-${n}`, data: { n } })),
    });
    await service.request('PUT', '/v1/data/balloons/b-4', { n: 4 });
    await service.request('DELETE', '/v1/data/balloons/none', undefined, { 'if-match': '"7"' });
    await service.request('GET', '/v1/data/balloons?where=n+%3E+1');
    await service.request('GET', '/v1/data/balloons?where=n+%3E');
    const text = await metrics();
    const read = (name: string) => readMetric(text, name);
    expect(read('uproar_commits_total{outcome="applied"}')).to.equal(2);
    expect(read('uproar_commits_total{outcome="refused"}')).to.equal(1);
    expect(read('uproar_writes_total')).to.equal(4);
    expect(read('uproar_commit_duration_seconds_count')).to.equal(3);
    expect(read('uproar_commit_duration_seconds_bucket{le="+Inf"}')).to.equal(3);
    expect(read('uproar_group_commits_count')).to.be.within(2, 3);
    expect(read('uproar_matched_views_sum'), 'both commits may concern the one view').to.equal(2);
    // One event for the first state, one for the first commit; the second is behind the limit, and only `more` stays so.
    expect(read('uproar_deliveries_total')).to.be.within(2, 3);
    expect(read('uproar_delivery_delay_seconds_count')).to.be.within(1, 2);
    expect(read('uproar_delivery_delay_seconds_sum')).to.be.above(0);
    expect(read('uproar_refusals_total{problem="bad-query"}')).to.equal(1);
    expect(
      read('uproar_http_request_duration_seconds_count{method="GET",route="/v1/data/:collection",status="4xx"}'),
    ).to.equal(1);
    expect(read('uproar_connections{transport="stream"}')).to.equal(1);
    expect([read('uproar_views'), read('uproar_watches'), read('uproar_seq')]).to.deep.equal([1, 1, 2]);
    expect(read('process_resident_memory_bytes')).to.be.above(1e7);
    const types = [...text.matchAll(/^# TYPE (\S+) (\w+)$/gm)].map(([, name, type]) => [name!, type!] as const);
    const misnamed = types.filter(([name, type]) => name.endsWith('_total') !== (type === 'counter'));
    expect(misnamed, 'counters are named so, and nothing else is').to.deep.equal([]);
    expect(types.length).to.be.above(30);
    stream.close();
  });

  it('count limited views that are filled again, and changes that are merged for slow connections', async () => {
    const before = await metrics();
    const slow = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    await slow.call('watch', { query: { from: 'notices', limit: 'none' } });
    await slow.call('watch', { query: { from: 'notices', order: 'n', limit: 1 } });
    slow.socket.pause();
    for (let n = 0; n < 60; n++)
      await service.request('PUT', `/v1/data/notices/n-${n}`, { n, text: 'x'.repeat(200_000) });
    for (let n = 0; n < 59; n++) await service.request('DELETE', `/v1/data/notices/n-${n}`);
    slow.socket.resume();
    await until('the missed changes have arrived', async () => readMetric(await metrics(), 'uproar_merges_total')! > 0);
    const text = await metrics();
    expect(readMetric(text, 'uproar_late_delivery_delay_seconds_sum')).to.be.above(0);
    expect(readMetric(text, 'uproar_refills_total')).to.be.above(readMetric(before, 'uproar_refills_total')!);
    slow.socket.terminate();
  });

  it('need a key for all collections, or none if that is configured', async () => {
    expect((await service.as(null)('GET', '/metrics')).status).to.equal(401);
    const { json: reader } = await service.request('POST', '/v1/keys', { name: 'monitor', scope: 'read' });
    expect((await service.as(reader.key)('GET', '/metrics')).status).to.equal(200);
    const { json: partial } = await service.request('POST', '/v1/keys', {
      name: 'partial',
      scope: 'read',
      collections: ['gates'],
    });
    expect((await service.as(partial.key)('GET', '/metrics')).status).to.equal(403);
    const open = await TestService.start({ openMetrics: true });
    const { status, headers, text } = await open.as(null)('GET', '/metrics');
    expect([status, headers.get('content-type')]).to.deep.equal([200, 'text/plain; version=0.0.4; charset=utf-8']);
    for (const line of text.trim().split('\n')) {
      expect(line).to.match(/^(# (HELP|TYPE) \w+ .+|\w+(\{[^}]*\})? [-+\d.eE]+(Inf)?|\w+ Nan|)$/);
    }
    await open.stop();
  });
});

describe('a service that is to stop', () => {
  it('is not ready any more, turns connections away, answers requests, and ends connections one after the other', async () => {
    const service = await TestService.start();
    expect((await service.as(null)('GET', '/readyz')).json).to.deep.equal({ status: 'ready' });
    const sockets = await Promise.all(
      Array.from({ length: 12 }, () => RawSocket.open(service, { authorization: `Bearer ${KEY}` })),
    );
    const ends: number[] = [];
    const started = Date.now();
    for (const { socket } of sockets) socket.once('close', () => ends.push(Date.now() - started));
    const closing = service.service.close(1500);
    const ready = await service.as(null)('GET', '/readyz');
    expect([ready.status, ready.json]).to.deep.equal([503, { status: 'not-ready', reasons: ['stopping'] }]);
    expect((await service.as(null)('GET', '/healthz')).status, 'it lives').to.equal(200);
    const written = await service.request('PUT', '/v1/data/balloons/b-1', { n: 1 });
    expect([written.status, written.headers.get('connection')]).to.deep.equal([201, 'close']);
    const late = await service.request('GET', '/v1/data/balloons', undefined, { accept: 'text/event-stream' });
    expect([late.status, late.json.type]).to.deep.equal([503, '/problems/stopping']);
    await closing;
    await until('all have been ended', () => ends.length === 12);
    expect(ends.at(-1)! - ends[0]!, 'not all at once').to.be.above(700);
    await service.restart();
    expect((await service.request('GET', '/v1/data/balloons/b-1')).status).to.equal(200);
    await service.stop();
  });

  it('is not ready while it cannot write to its disk, and is again as soon as it can', async () => {
    const service = await TestService.start();
    const database = connectionOf(service.service.store);
    const put = () => service.request('PUT', '/v1/data/balloons/b-1', { n: 1 });
    database.pragma('query_only = on');
    expect((await put()).json.type).to.equal('/problems/storage-failed');
    const failing = await service.as(null)('GET', '/readyz');
    expect([failing.status, failing.json.reasons]).to.deep.equal([503, ['storage-failed']]);
    database.pragma('query_only = off');
    expect((await service.as(null)('GET', '/readyz')).json, 'found out without a commit').to.deep.equal({
      status: 'ready',
    });
    expect((await put()).status).to.equal(201);
    await service.stop();
  });
});

describe('the log', () => {
  it('shows aborted requests, which are counted, and are no errors of the service', async () => {
    const lines: Record<string, unknown>[] = [];
    const logStream = { write: (line: string) => void lines.push(JSON.parse(line) as Record<string, unknown>) };
    const service = await TestService.start({ logLevel: 'info', logStream });
    const writes = Array.from({ length: 5000 }, (_, n) => ({ put: `crews/c-${n}`, data: { text: 'x'.repeat(500) } }));
    await service.request('POST', '/v1/commits', { writes });
    const { hostname, port } = new URL(service.url);
    const body = JSON.stringify({ from: 'crews', limit: 5000 });
    const formats = ['application/json', 'text/csv', 'application/x-ndjson', 'text/event-stream'];
    const reads = () => service.service.store.reader.load.running;
    const logged = () => lines.filter(({ path }) => path === '/v1/query');
    for (const format of formats) {
      const socket = connectTcp(Number(port), hostname);
      const head = [
        'POST /v1/query HTTP/1.1',
        `Host: ${hostname}`,
        `Authorization: Bearer ${KEY}`,
        `Accept: ${format}`,
        'Content-Type: application/json',
        `Content-Length: ${body.length}`,
      ];
      socket.write(`${head.join('\r\n')}\r\n\r\n${body}`);
      await until('it is being answered', () => reads() > 0 || socket.bytesRead > 0);
      const before = logged().length;
      socket.destroy();
      await until('it is logged, and its reading ends', () => logged().length > before && reads() === 0);
    }
    for (const line of logged()) expect(line).to.include({ aborted: true });
    expect(lines.filter(({ level }) => level === 'error')).to.deep.equal([]);
    const { text } = await service.request('GET', '/metrics');
    expect(text).to.include('uproar_http_aborted_requests_total{method="POST",route="/v1/query"} 4');
    expect(text).not.to.include('problem="internal"');
    const { json } = await service.request('GET', '/v1/usage');
    const [{ requests }] = json.rows as [{ requests: number }];
    expect(requests).to.be.at.least(5);
    await service.stop();
  });

  it('has a line of JSON for each request, without secrets and conditions', async () => {
    const lines: Record<string, unknown>[] = [];
    const logStream = { write: (line: string) => void lines.push(JSON.parse(line) as Record<string, unknown>) };
    const service = await TestService.start({ logLevel: 'info', logStream });
    await service.request('PUT', '/v1/data/crews/c-1', { phone: '555-0100' }, { 'x-request-id': 'truck-7-000001' });
    await service.request('GET', "/v1/data/crews?where=phone='555-0100'&ticket=abc");
    await service.request('GET', '/healthz');
    await until('two requests are logged', () => lines.filter(({ msg }) => msg === 'request').length === 2);
    const [put, get] = lines.filter(({ msg }) => msg === 'request');
    expect(put).to.include({ level: 'info', method: 'PUT', path: '/v1/data/crews/c-1', status: 201 });
    expect(put).to.include({ request: 'truck-7-000001', from: '127.0.0.1', as: 'key:environment' });
    expect(get).to.include({ path: '/v1/data/crews', status: 401 });
    service.service.reload({ logLevel: 'debug' });
    await service.request('GET', '/v1/data/crews?limit=1&ticket=opensesame');
    await until('it is logged', () => lines.some(({ path }) => String(path).includes('limit=1')));
    const text = JSON.stringify(lines);
    expect(text).to.include('ticket=(hidden)');
    for (const secret of [KEY, 'opensesame', '555-0100']) expect(text).not.to.include(secret);
    service.service.reload({ logLevel: 'warn' });
    const before = lines.length;
    await service.request('GET', '/v1/data/crews');
    expect(lines.length, 'nothing to warn of').to.equal(before);
    for (let n = 0; n < 3; n++) {
      const headers = { origin: 'https://board.example' };
      expect((await service.request('PUT', '/v1/data/crews/c-2', {}, headers)).status).to.equal(403);
    }
    const refused = lines.slice(before).filter(({ origin }) => origin === 'https://board.example');
    expect(refused.map(({ msg }) => msg)).to.deep.equal([
      'a page of another origin was refused; serve --allow-origin https://board.example allows it',
    ]);
    await service.stop();
  });
});

describe('settings that change while the service runs', () => {
  it('hold from then on: quotas, limits, origins; all of them or none', async () => {
    const service = await TestService.start({ accounts: 'open' });
    await service.setPolicy({ anonymous: true, collections: { balloons: { read: 'true' } } });
    const origin = 'https://board.example';
    const ask = () => service.as(null)('GET', '/v1/data/balloons', undefined, { origin });
    expect((await ask()).status).to.equal(403);
    service.service.reload({ allowedOrigins: [origin], rateLimits: { address: { requests: 3, seconds: 60 } } });
    expect((await ask()).status).to.equal(200);
    expect(() => service.service.reload({ allowedOrigins: ['no origin'], connectionLimits: { total: 1 } })).to.throw(
      'origin',
    );
    const sockets = [await RawSocket.open(service), await RawSocket.open(service)];
    service.service.reload({ allowedOrigins: [origin], connectionLimits: { total: 2 } });
    const refused = await service.request('GET', '/v1/data/balloons', undefined, { accept: 'text/event-stream' });
    expect(refused.json.type).to.equal('/problems/limit-reached');
    for (const { socket } of sockets) socket.terminate();
    await service.stop();
  });

  it('include a certificate that was renewed, and leave all as it was when it is none', async () => {
    const [old, renewed] = [temporaryDirectory(), temporaryDirectory()];
    const [first, second] = [makeCertificate(old.path), makeCertificate(renewed.path)];
    const service = await TestService.start({ tls: first });
    const { port } = new URL(service.url);
    const shown = () =>
      new Promise<string>((resolve, reject) => {
        const socket = connect({ port: Number(port), host: '127.0.0.1', rejectUnauthorized: false }, () => {
          resolve(socket.getPeerX509Certificate()!.fingerprint256);
          socket.destroy();
        }).on('error', reject);
      });
    const fingerprint = (cert: string) => new X509Certificate(cert).fingerprint256;
    expect(await shown()).to.equal(fingerprint(first.cert));
    service.service.reload({ tls: second });
    expect(await shown()).to.equal(fingerprint(second.cert));
    expect(() => service.service.reload({ tls: { cert: 'none', key: second.key } })).to.throw();
    expect(() => service.service.reload({ tls: { cert: first.cert, key: second.key } })).to.throw();
    expect(await shown()).to.equal(fingerprint(second.cert));
    await service.stop();
    old.remove();
    renewed.remove();
  });
});

describe('traces', () => {
  const exporter = new InMemorySpanExporter();
  before(() => {
    trace.setGlobalTracerProvider(new BasicTracerProvider({ spanProcessors: [new SimpleSpanProcessor(exporter)] }));
    context.setGlobalContextManager(new AsyncLocalStorageContextManager().enable());
    // The W3C form, which the set-up of OpenTelemetry brings along.
    propagation.setGlobalPropagator({
      inject: () => undefined,
      fields: () => ['traceparent'],
      extract: (parent, carrier) => {
        const [, traceId, spanId] = String((carrier as Record<string, unknown>).traceparent ?? '').split('-');
        return traceId && spanId
          ? trace.setSpanContext(parent, { traceId, spanId, traceFlags: 1, isRemote: true })
          : parent;
      },
    });
  });
  after(() => {
    trace.disable();
    context.disable();
    propagation.disable();
  });

  it('follow a request to its commit, as part of the trace it came with', async () => {
    const service = await TestService.start();
    const traceId = '4bf92f3577b34da6a3ce929d0e0e4736';
    await service.request(
      'PUT',
      '/v1/data/balloons/b-1',
      { n: 1 },
      { traceparent: `00-${traceId}-00f067aa0ba902b7-01` },
    );
    await until('the request has ended', () => exporter.getFinishedSpans().some(({ name }) => name.startsWith('PUT')));
    const spans = exporter.getFinishedSpans();
    const request = spans.find(({ name }) => name === 'PUT /v1/data/:collection/:id')!;
    const commit = spans.find(({ name }) => name === 'commit')!;
    expect(request.spanContext().traceId).to.equal(traceId);
    expect(request.attributes).to.include({ 'http.request.method': 'PUT', 'http.response.status_code': 201 });
    expect(commit.parentSpanContext?.spanId).to.equal(request.spanContext().spanId);
    expect(commit.attributes).to.include({ 'uproar.writes': 1, 'uproar.seq': 1 });
    expect(spans.map(({ name }) => name)).to.include('group');
    await service.stop();
  });
});
