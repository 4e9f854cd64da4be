import { expect } from 'chai';
import type { UsageReport, UsageRow } from '@uproar/protocol';
import type { LogRecord } from '../dist/state/records.js';
import { connectionOf } from '../dist/store/index.js';
import { UsageMeter } from '../dist/usage/usage-meter.js';
import { UsageRecorder } from '../dist/usage/usage-recorder.js';
import { collectionOf } from '../dist/usage/collection-of.js';
import { startNode } from '../../../test/cluster-nodes.js';
import { Etcd } from '../../../test/etcd.js';
import { HookReceiver } from '../../../test/hook-receiver.js';
import { KEY, TestService, until } from '../../../test/service.js';

const OFTEN = { usage: { intervalMs: 100 } };
const DAY_MS = 86_400_000;

async function usage(service: TestService, parameters = ''): Promise<UsageReport> {
  const { status, json, text } = await service.request('GET', `/v1/usage?${parameters}`);
  expect(status, text).to.equal(200);
  return json as unknown as UsageReport;
}

const rowOf = async (service: TestService, identity: string, parameters = '') =>
  (await usage(service, `identity=${identity}&${parameters}`)).rows.find((row) => row.identity === identity);

/** Waits until a row has what is expected, and then checks that it stays so. */
async function expectRow(service: TestService, identity: string, parameters: string, expected: Partial<UsageRow>) {
  const meets = async () => {
    const row = (await rowOf(service, identity, parameters)) as Record<string, unknown> | undefined;
    return Object.entries(expected).every(([name, value]) => row?.[name] === value);
  };
  const found = () => rowOf(service, identity, parameters).then((row) => JSON.stringify(row));
  await until(`usage of ${identity}`, meets, 5000).catch(async () => expect.fail(`${await found()} of ${identity}`));
  await new Promise((resolve) => setTimeout(resolve, 250));
  expect(await meets(), await found()).to.equal(true);
}

describe('usage', () => {
  let service: TestService;
  beforeEach(async () => {
    service = await TestService.start({ ...OFTEN, accounts: 'open' });
  });
  afterEach(() => service.stop());

  it('counts requests, reads, documents looked at, writes and bytes for a key and a collection', async () => {
    const { key } = (await service.request('POST', '/v1/keys', { name: 'board', scope: 'write' })).json as {
      key: string;
    };
    const ask = service.as(key);
    for (let n = 0; n < 10; n++) await ask('PUT', `/v1/data/balloons/b-${n}`, { n });
    await ask('GET', '/v1/data/balloons/b-1');
    const found = await ask('GET', '/v1/data/balloons?where=n<3');
    expect((found.json as { documents: unknown[] }).documents).to.have.length(3);
    await ask('POST', '/v1/query', { from: 'balloons', where: 'n=0' });
    const lines = await ask('GET', '/v1/data/balloons', undefined, { accept: 'application/x-ndjson' });
    expect(lines.text.split('\n').filter(Boolean)).to.have.length(10);
    await ask('POST', '/v1/commits', { writes: [{ delete: 'balloons/b-1' }, { put: 'crews/c-1', data: {} }] });
    await expectRow(service, 'key:board', 'collection=balloons', {
      requests: 14,
      reads: 1 + 3 + 1 + 10,
      examined: 1 + 10 + 10 + 10,
      writes: 11,
      deliveries: 0,
    });
    const board = (await rowOf(service, 'key:board', 'collection=balloons'))!;
    expect(board.sentBytes, 'answers with their headers').to.be.within(lines.text.length, 20_000);
    await expectRow(service, 'key:board', 'collection=crews', { requests: 0, writes: 1 });
    await expectRow(service, 'key:board', '', { requests: 15, writes: 12 });
    const { rows } = await usage(service, 'by=collection');
    expect(rows.find(({ collection }) => collection === 'balloons')).to.include({ documents: 9, writes: 11 });
    expect(rows.find(({ collection }) => collection === 'balloons')!.storedBytes).to.be.at.least(9 * 7);
  });

  it('counts what watches are sent for everyone who watches, over each transport', async () => {
    const { key } = (await service.request('POST', '/v1/keys', { name: 'screen', scope: 'read' })).json as {
      key: string;
    };
    const stores = [service.client({ token: key }), service.client({ token: key })];
    const watches = stores.map((store) => store.collection('balloons').watch());
    const abort = new AbortController();
    const stream = await fetch(`${service.url}/v1/data/balloons`, {
      headers: { accept: 'text/event-stream', authorization: `Bearer ${key}` },
      signal: abort.signal,
    });
    await until('all watch', () => watches.every((watch) => watch.current.state === 'live'));
    for (let n = 0; n < 5; n++) await service.request('PUT', `/v1/data/balloons/b-${n}`, { text: 'ü'.repeat(100) });
    await until('all have it', () => watches.every((watch) => watch.current.documents.length === 5));
    // A first state for each of three, and five changes.
    await expectRow(service, 'key:screen', 'collection=balloons', { deliveries: 3 * 6, writes: 0 });
    const { sentBytes } = (await rowOf(service, 'key:screen', 'collection=balloons'))!;
    expect(sentBytes, 'in bytes of UTF-8').to.be.above(3 * 5 * 200);
    abort.abort();
    await stream.body!.cancel().catch(() => undefined);
    for (const watch of watches) watch.close();
  });

  it('counts calls over a socket, what hooks are sent, and requests without a key', async () => {
    const receiver = await HookReceiver.start();
    await service.stop();
    service = await TestService.start({ ...OFTEN, hooks: { networks: ['127.0.0.1'] } });
    await service.request('POST', '/v1/hooks', { name: 'desk', url: receiver.url, collection: 'balloons' });
    const store = service.client();
    await store.collection('balloons').put('b-1', { n: 1 });
    await store.collection('balloons').get('b-1');
    await expectRow(service, 'hook:desk', 'collection=balloons', { deliveries: 1, requests: 0 });
    expect((await rowOf(service, 'hook:desk'))!.sentBytes).to.equal(receiver.received[0]!.body.length);
    await expectRow(service, 'key:environment', 'collection=balloons', { requests: 2, reads: 1, writes: 1 });
    const sent = await service.as(null)('GET', '/v1/data/balloons');
    expect(sent.status).to.equal(401);
    await receiver.stop();
  });

  it('survives a restart, groups as asked, and says what is wrong with a request', async () => {
    for (let n = 0; n < 3; n++) await service.request('PUT', `/v1/data/balloons/b-${n}`, { n });
    await service.request('PUT', '/v1/data/crews/c', {});
    await service.restart();
    const today = new Date().toISOString().slice(0, 10);
    const byDay = await usage(service, 'by=day,collection');
    expect(byDay.rows.map(({ day, collection, writes, documents }) => ({ day, collection, writes, documents })))
      .to.deep.include({ day: today, collection: 'balloons', writes: 3, documents: 3 })
      .and.to.deep.include({ day: today, collection: 'crews', writes: 1, documents: 1 });
    expect(byDay.total).to.include({ writes: 4, documents: 4 });
    expect((await usage(service, 'by=')).rows).to.have.length(1);
    expect(await usage(service, 'by=collection&limit=1')).to.include({ more: true });
    for (const wrong of ['by=weather', 'from=yesterday', 'from=2026-02-02&to=2026-02-01', 'limit=0', 'colection=a']) {
      expect((await service.request('GET', `/v1/usage?${wrong}`)).status, wrong).to.equal(400);
    }
    const { key } = (await service.request('POST', '/v1/keys', { name: 'r', scope: 'write' })).json as { key: string };
    expect((await service.as(key)('GET', '/v1/usage')).status, 'for administrators only').to.equal(403);
  });

  it('includes what is not recorded yet', async () => {
    await service.stop();
    service = await TestService.start({ usage: { intervalMs: 1e6 } });
    for (let n = 0; n < 3; n++) await service.request('PUT', `/v1/data/balloons/b-${n}`, { n });
    await expectRow(service, 'key:environment', 'collection=balloons', { requests: 3, writes: 3 });
    expect((await usage(service, 'collection=crews')).rows).to.deep.equal([]);
    const [byDay] = (await usage(service, 'by=day&collection=balloons')).rows;
    expect(byDay).to.include({ writes: 3, documents: 3 }).and.not.to.have.property('identity');
  });

  it('notes what each collection held at the end of a day, and removes old days', async () => {
    await service.stop();
    service = await TestService.start({ usage: { intervalMs: 1e6 } });
    const { log } = service.service.store;
    const now = Date.now();
    const propose = (afterDays: number, rows: Extract<LogRecord, { kind: 'usage' }>['rows'], keptDays = 3) =>
      log.propose({ kind: 'usage', timeMs: now + afterDays * DAY_MS, rows, maxRows: 2, keptDays });
    await service.request('PUT', '/v1/data/balloons/b-1', {});
    await propose(0, [['key:a', 'balloons', 1, 0, 0, 0, 0, 0]]);
    await service.request('PUT', '/v1/data/balloons/b-2', {});
    await propose(1, [
      ['key:a', 'balloons', 1, 2, 3, 4, 5, 6],
      ['key:b', 'balloons', 1, 2, 3, 4, 5, 6],
      ['key:c', 'balloons', 1, 2, 3, 4, 5, 6],
      ['key:d', 'crews', 1, 2, 3, 4, 5, 6],
      ['key:a', 'balloons', 1, 2, 3, 4, 5, 6],
    ]);
    const tomorrow = new Date(now + DAY_MS).toISOString().slice(0, 10);
    const { rows } = await usage(service, `by=identity,collection&from=${tomorrow}&to=${tomorrow}`);
    const short = rows.map(({ identity, collection, requests }) => `${identity} ${collection} ${requests}`);
    expect(short, 'a day has so many rows').to.have.members(['key:a balloons 2', 'key:b balloons 1', 'others  2']);
    const today = new Date(now).toISOString().slice(0, 10);
    const stored = connectionOf(service.service.store).prepare('SELECT collection, documents FROM stored_by_day').all();
    expect(stored, 'at the first record of the next day').to.deep.equal([{ collection: 'balloons', documents: 2 }]);
    for (const day of [2, 3, 4]) await propose(day, []);
    const days = connectionOf(service.service.store)
      .prepare('SELECT day FROM usage_days ORDER BY day')
      .pluck()
      .all() as number[];
    expect(days.map((day) => day - Math.floor(now / DAY_MS))).to.deep.equal([2, 3, 4]);
    const old = await usage(service, `identity=key:a&from=${today}&to=${tomorrow}`);
    expect(old.rows, 'the days before').to.deep.equal([]);
  });
});

describe('the counters of usage', () => {
  it('keep what could not be recorded, count what comes meanwhile, and lose nothing of either', async () => {
    const meter = new UsageMeter();
    const recorded: Extract<LogRecord, { kind: 'usage' }>['rows'] = [];
    let fails = true;
    const log = {
      propose: async (record: LogRecord) => {
        await new Promise((resolve) => setTimeout(resolve, 5));
        if (fails) throw new Error('full');
        recorded.push(...(record as Extract<LogRecord, { kind: 'usage' }>).rows);
        return {} as never;
      },
    };
    const recorder = new UsageRecorder(log, meter, { intervalMs: 1e6 });
    const counter = meter.counterFor('key:a', 'balloons');
    counter.write(3);
    const failed = recorder.record();
    counter.write(4);
    await failed;
    fails = false;
    const under = recorder.record();
    counter.write(5);
    await under;
    meter.counterFor('key:a', 'balloons').delivery(10);
    await recorder.close();
    const sums = [2, 3, 4, 5, 6, 7].map((at) => recorded.reduce((sum, row) => sum + Number(row[at]), 0));
    expect(sums).to.deep.equal([0, 0, 0, 12, 1, 10]);
  });

  it('hold a bounded number of identities between two recordings', () => {
    const meter = new UsageMeter();
    for (let n = 0; n < 100_500; n++) meter.counterFor(`token:${n}`, 'a').request(1);
    const rows = meter.take(Infinity);
    expect(rows).to.have.length(100_001);
    expect(rows.find(([identity]) => identity === 'others')!.slice(1, 3)).to.deep.equal(['', 500]);
    expect(meter.take(Infinity)).to.deep.equal([]);
  });

  it('name the collection of a commit that has one', () => {
    expect(collectionOf([{ put: 'a/1' }, { delete: 'a/2' }, { create: 'a' }])).to.equal('a');
    expect(collectionOf([{ put: 'a/1' }, { delete: 'b/2' }])).to.equal('');
    for (const wrong of [undefined, [], [null], [7], [{ put: 7 }], [{ put: '//' }], 'text' as never])
      expect(collectionOf(wrong)).to.equal('');
  });
});

describe('usage in a cluster', function () {
  this.timeout(60_000);

  it('adds up what all nodes have counted', async () => {
    const etcd = await Etcd.start(1);
    const nodes: TestService[] = [];
    for (let n = 0; n < 3; n++) nodes.push(await startNode(etcd, 'usage/', { ...OFTEN, adminKey: KEY }));
    try {
      for (const [at, node] of nodes.entries()) {
        for (let n = 0; n <= at; n++) await node.request('PUT', `/v1/data/balloons/b-${at}-${n}`, { n });
      }
      for (const node of nodes)
        await expectRow(node, 'key:environment', 'collection=balloons', { writes: 6, requests: 6 });
    } finally {
      for (const node of nodes) await node.stop();
      await etcd.stop();
    }
  });
});
