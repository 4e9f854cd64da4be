import { expect } from 'chai';
import type { ConnectionInfo, ConnectionListing, MetricsReport, SlowQuery, ViewCost } from '@uproar/protocol';
import { StreamReader } from '../../../test/event-stream.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, TestService, until } from '../../../test/service.js';

describe('who is connected', () => {
  let service: TestService;
  beforeEach(async () => {
    service = await TestService.start({ maxUnreadBytes: 16 * 1024, accounts: 'open' });
  });
  afterEach(() => service.stop());
  const list = async (query = ''): Promise<ConnectionListing> =>
    (await service.request('GET', `/v1/connections${query}`)).json as ConnectionListing;
  const find = async (device: string): Promise<ConnectionInfo> => {
    let found: ConnectionInfo | undefined;
    await until(`${device} is there`, async () => {
      found = (await list()).connections.find((connection) => connection.device === device);
      return found !== undefined;
    });
    return found!;
  };

  it('is listed with what each watches, over WebSockets and event streams', async () => {
    const truck = service.client({ device: 'truck-7' });
    await truck.collection('crews').put('c-1', { name: 'Amber' });
    truck.collection('crews').watch({ where: "name = 'Amber'" });
    truck.collection('crews').watchOne('c-1');
    const stream = await StreamReader.open(`${service.url}/v1/data/crews`);
    const journal = await StreamReader.open(`${service.url}/v1/journal?collection=crews`);
    await until('all watch', async () => (await list()).connections.flatMap(({ watches }) => watches).length === 4);
    const { connections, total, seq } = await list();
    expect([total, seq]).to.deep.equal([3, 1]);
    const socket = connections.find(({ transport }) => transport === 'socket')!;
    expect(socket).to.include({ device: 'truck-7', identity: 'key:environment', address: '127.0.0.1' });
    expect(socket.sentBytes).to.be.above(200);
    expect(socket.receivedBytes).to.be.above(100);
    expect(socket.watches).to.have.deep.members([
      { query: { from: 'crews', where: "name = 'Amber'", limit: 'none' }, commitsBehind: 0, behindMs: 0 },
      { doc: 'crews/c-1', commitsBehind: 0, behindMs: 0 },
    ]);
    const streams = connections.filter(({ transport }) => transport === 'stream').flatMap(({ watches }) => watches);
    expect(streams).to.deep.include({ query: { from: 'crews' }, commitsBehind: 0, behindMs: 0 });
    expect(streams).to.deep.include({ journal: { collection: 'crews' }, commitsBehind: 0, behindMs: 0 });
    expect((await list('?search=TRUCK-7')).connections).to.have.length(1);
    expect((await list('?search=nowhere')).found).to.equal(0);
    expect((await list('?limit=1')).connections).to.have.length(1);
    stream.close();
    journal.close();
    truck.close();
    await until('all have gone', async () => (await list()).total === 0);
  });

  it('reports how far behind a slow reader is', async () => {
    const slow = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    await slow.call('hello', { token: KEY, device: 'slow' });
    await slow.call('watch', { query: { from: 'notices', limit: 'none' } });
    slow.socket.pause();
    const text = 'x'.repeat(200_000);
    for (let n = 0; n < 60 && (await find('slow')).watches[0]!.commitsBehind < 3; n++) {
      await service.request('PUT', `/v1/data/notices/n-${n}`, { text });
    }
    const [worst] = (await list()).connections;
    expect(worst).to.include({ device: 'slow' });
    expect(worst!.watches[0]!.commitsBehind).to.be.at.least(3);
    expect(worst!.unreadBytes).to.be.above(16 * 1024);
    slow.socket.resume();
    await until('it has caught up', async () => (await find('slow')).watches[0]!.commitsBehind === 0);
    expect((await find('slow')).watches[0]!.behindMs).to.equal(0);
    slow.socket.terminate();
  });

  it('can be ended; clients come back by themselves, and the audit log names who did it', async () => {
    const tablet = service.client({ device: 'tablet' });
    const states: string[] = [];
    tablet.subscribe(({ name }) => states.push(name));
    const watch = tablet.collection('pads').watch();
    const first = await find('tablet');
    expect((await service.request('DELETE', `/v1/connections/${first.id}`)).status).to.equal(204);
    await until('it noticed', () => states.includes('offline'));
    await until('it is back', () => tablet.state.name === 'online');
    expect((await find('tablet')).id).not.to.equal(first.id);
    await service.request('PUT', '/v1/data/pads/p-1', { free: true });
    await until('its watch goes on', () => watch.current.documents.length === 1);
    expect((await service.request('DELETE', `/v1/connections/${first.id}`)).json).to.include({
      status: 404,
      type: '/problems/no-such-connection',
    });
    const { entries } = (await service.request('GET', '/v1/audit?event=connection-ended')).json;
    expect(entries[0].detail).to.deep.equal({ connection: first.id, of: 'key:environment' });
    const stream = await StreamReader.open(`${service.url}/v1/data/pads`);
    const streamed = (await list()).connections.find(({ transport }) => transport === 'stream')!;
    await service.request('DELETE', `/v1/connections/${streamed.id}`);
    await until('the stream has ended', async () => (await list('?search=pads')).found === 1);
    stream.close();
  });

  it('is for administrators alone, and wrong parameters are refused', async () => {
    const { key } = (await service.request('POST', '/v1/keys', { name: 'w', scope: 'write' })).json;
    for (const path of ['/v1/connections', '/v1/metrics/samples', '/v1/metrics/queries', '/v1/metrics/views']) {
      expect((await service.as(key as string)('GET', path)).json, path).to.include({ type: '/problems/admin-only' });
    }
    expect((await service.as(key as string)('DELETE', '/v1/connections/x')).status).to.equal(403);
    expect((await service.request('GET', '/v1/connections?limit=0')).status).to.equal(400);
    expect((await service.request('GET', '/v1/metrics/samples?after=yesterday')).status).to.equal(400);
  });
});

describe('metrics', () => {
  let service: TestService;
  before(async () => {
    service = await TestService.start();
  });
  after(() => service.stop());

  it('is counted second by second, with percentiles of what took time', async () => {
    const store = service.client();
    store.collection('balloons').watch();
    await store.ready();
    for (let n = 0; n < 20; n++) await store.collection('balloons').put(`bl-${n}`, { altitude: n });
    await store
      .collection('balloons')
      .put('bl-1', {}, { ifVersion: 77 })
      .catch(() => undefined);
    const total = (samples: MetricsReport['samples'], of: 'commits' | 'writes' | 'refusals' | 'deliveries') =>
      samples.reduce((sum, sample) => sum + sample[of], 0);
    let metrics: MetricsReport | undefined;
    await until('it was sampled', async () => {
      metrics = (await service.request('GET', '/v1/metrics/samples')).json as MetricsReport;
      return total(metrics.samples, 'refusals') === 1;
    });
    const { samples, journal } = metrics!;
    expect(total(samples, 'commits')).to.equal(20);
    expect(total(samples, 'writes')).to.equal(20);
    expect(total(samples, 'deliveries')).to.equal(21);
    expect(journal).to.include({ first: 1, last: 20 });
    const busy = samples.find(({ commits }) => commits > 0)!;
    expect(busy.commitMs!.p50).to.be.above(0).and.at.most(busy.commitMs!.p99);
    expect(busy.deliveryMs!.p99).to.be.above(0);
    expect(samples.at(-1)).to.include({ connections: 1, views: 1, waiting: 0, seq: 20 });
    expect(samples.at(-1)!.storeBytes).to.be.above(4096);
    await until('there are later ones', async () => {
      const later = (await service.request('GET', `/v1/metrics/samples?after=${samples.at(-1)!.time}`))
        .json as MetricsReport;
      return later.samples.length > 0 && later.samples.every(({ time }) => time > samples.at(-1)!.time);
    });
  });

  it('reports the cost of each view, and how it is matched', async () => {
    const store = service.client();
    const watch = store.collection('gates').watch({ where: "name = 'north'" });
    await until('it is live', () => watch.current.state === 'live');
    await store.collection('gates').put('g-1', { name: 'north', count: 1 });
    await store.collection('gates').put('g-2', { name: 'south', count: 1 });
    const { views } = (await service.request('GET', '/v1/metrics/views')).json as { views: ViewCost[] };
    const gates = views.find(({ query }) => query?.from === 'gates')!;
    expect(gates).to.include({ watchers: 1, matchedBy: 'values', tested: 1, changed: 1, deliveries: 2 });
    expect(gates.sentBytes).to.be.above(50);
    expect(gates.milliseconds).to.be.above(0);
  });

  it('lists slow queries, grouped if they differ only in values, with the index that would help', async () => {
    for (let part = 0; part < 4; part++) {
      const writes = Array.from({ length: 8000 }, (_, n) => ({
        create: 'flights',
        id: `f-${part}-${n}`,
        data: { day: n % 2000, crew: `c-${n % 97}`, text: 'some more to read and to parse' },
      }));
      await service.client().commit({ writes });
    }
    for (const day of [3, 4, 5]) {
      await service.request(
        'GET',
        `/v1/data/flights?${new URLSearchParams({ where: `day = ${day}`, order: '-crew' })}`,
      );
    }
    await service.request('GET', '/v1/data/flights/f-1-1');
    const { queries } = (await service.request('GET', '/v1/metrics/queries')).json as { queries: SlowQuery[] };
    expect(queries).to.have.length(1);
    expect(queries[0]).to.include({
      from: 'flights',
      where: 'day = 5',
      order: '-crew',
      count: 3,
      documentsRead: 32_000,
      documentsReturned: 16,
      index: null,
      advice: "uproar index create flights 'day,-crew'",
    });
    expect(queries[0]!.slowestMs).to.be.at.least(queries[0]!.meanMs);
  });
});
