import { expect } from 'chai';
import { connect } from '@uproar/client';
import { ServedProcess } from '../../../test/served-process.js';
import { startNode } from '../../../test/cluster-nodes.js';
import { Etcd, freePort } from '../../../test/etcd.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, temporaryDirectory, TestService, until, type HttpAnswer } from '../../../test/service.js';

const JSON_PATCH = { 'content-type': 'application/json-patch+json' };
const ADJUST = { 'content-type': 'application/vnd.uproar.adjust+json' };

describe('documents that end', () => {
  let service: TestService;
  beforeEach(async () => {
    service = await TestService.start({ accounts: 'open' });
  });
  afterEach(() => service.stop());

  const inSeconds = (seconds: number) => new Date(Date.now() + seconds * 1000).toISOString();
  const read = (address: string) => service.request('GET', `/v1/data/${address}`);
  const put = (address: string, end: string, data: object = {}): Promise<HttpAnswer> =>
    service.request('PUT', `/v1/data/${address}${end}`, data);
  const gone = (address: string) =>
    until(`${address} has ended`, async () => (await read(address)).status === 404, 20_000);

  it('are deleted by a commit of their own, which watches and the journal show', async () => {
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    await socket.call('watch', { query: { from: 'notices' } });
    const written = await put('notices/n-1', '?ttl=1', { text: 'Wind from the west' });
    expect(written.status).to.equal(201);
    const { expires, updated } = written.json;
    expect(Date.parse(expires) - Date.parse(updated)).to.equal(1000);
    expect((await read('notices/n-1')).json.expires, 'as bookkeeping').to.equal(expires);
    await gone('notices/n-1');
    await until('the watch shows it', () => JSON.stringify(socket.heard).includes('"op":"remove"'));
    const { events } = (await service.request('GET', '/v1/journal?doc=notices/n-1&before=now')).json;
    expect(events[0].type).to.equal('uproar.document.deleted');
    expect(JSON.stringify(events[0])).to.include('expiry');
    const endedMs = Date.parse(events[0].time) - Date.parse(expires);
    expect(endedMs, 'not before its time').to.be.at.least(0);
    socket.socket.close();
  });

  it('can be given an end by every kind of write, have it moved, and taken off', async () => {
    const soon = inSeconds(3600);
    const expires = async (answer: Promise<HttpAnswer>) => (await answer).json.expires;
    expect(await expires(put('a/b', `?expires=${soon}`, { n: 1 }))).to.equal(soon);
    const patch = (end: string, body: unknown, headers = {}) =>
      service.request('PATCH', `/v1/data/a/b${end}`, body, headers);
    expect(await expires(patch('', { n: 2 })), 'a merge keeps it').to.equal(soon);
    expect(await expires(patch('', [{ op: 'add', path: '/m', value: 1 }], JSON_PATCH)), 'so does a patch').to.equal(
      soon,
    );
    expect(await expires(patch('', { '/n': { add: 1 } }, ADJUST)), 'and an adjustment').to.equal(soon);
    const later = '2999-01-01T00:00:00.000Z';
    expect(await expires(patch('?expires=2999-01-01T02:00:00%2B02:00', {})), 'moved').to.equal(later);
    expect(await expires(patch('?expires=never', [], JSON_PATCH)), 'taken off').to.equal(undefined);
    expect(await expires(patch('?ttl=60', { '/n': { add: 1 } }, ADJUST))).to.be.a('string');
    expect(await expires(put('a/b', '', { n: 1 })), 'put without an end').to.equal(undefined);
    const created = await service.request('POST', '/v1/data/a?ttl=0.5', { n: 1 });
    expect(created.json.expires).to.be.a('string');
    await gone(`a/${created.json.id}`);

    const writes = [
      { put: 'a/p', data: {}, ttl: 60 },
      { create: 'a', id: 'c', data: {}, expires: soon },
      { merge: 'a/p', data: {}, expires: null },
    ];
    expect((await service.request('POST', '/v1/commits', { writes })).status).to.equal(200);
    expect((await read('a/p')).json).not.to.have.property('expires');
    expect((await read('a/c')).json.expires).to.equal(soon);
  });

  it('are found, sorted and indexed by their end, also in the past', async () => {
    for (const [id, seconds] of [
      ['x', 300],
      ['y', 100],
      ['z', 200],
    ] as const) {
      await put(`a/${id}`, `?expires=${inSeconds(seconds)}`);
    }
    await put('a/stays', '');
    const ids = async (query: string) =>
      (await service.request('GET', `/v1/data/a?${query}`)).json.documents.map(({ id }: { id: string }) => id);
    const where = encodeURIComponent(`meta('expires') < TIMESTAMP('${inSeconds(250)}')`);
    const order = encodeURIComponent("meta('expires')");
    expect(await ids(`where=${where}&order=${order}`)).to.deep.equal(['y', 'z']);
    expect(await ids(`where=${encodeURIComponent("meta('expires') IS NULL")}`)).to.deep.equal(['stays']);
    const { seq } = (await read('a')).json;
    await service.request('PATCH', '/v1/data/a/y?expires=never', {});
    expect((await read(`a/y?at=${seq}`)).json.expires, 'as it was').to.be.a('string');
    expect((await read('a/y')).json).not.to.have.property('expires');
  });

  it('stay when their end is moved at the last moment, and may lie in the past', async () => {
    await put('a/moved', '?ttl=1');
    await new Promise((resolve) => setTimeout(resolve, 600));
    await service.request('PATCH', '/v1/data/a/moved?ttl=3600', {});
    await put('a/past', '?expires=2001-01-01T00:00:00Z');
    await gone('a/past');
    await new Promise((resolve) => setTimeout(resolve, 1200));
    expect((await read('a/moved')).status).to.equal(200);
  });

  it('are refused with a wrong end', async () => {
    const refused = async (end: string) => {
      const { status, json } = await put('a/b', end);
      expect(status, end).to.equal(400);
      return json.detail as string;
    };
    expect(await refused('?ttl=0')).to.include('above 0');
    expect(await refused('?ttl=-5')).to.include('above 0');
    expect(await refused('?ttl=soon')).to.include('number of seconds');
    expect(await refused('?ttl=1e12')).to.include('at most');
    expect(await refused('?expires=tomorrow')).to.include('or never');
    expect(await refused(`?ttl=5&expires=${inSeconds(5)}`)).to.include('not both');
    expect(await refused('?tll=5')).to.include('expires, ttl');
    const both = { writes: [{ put: 'a/b', data: {}, ttl: 5, expires: null }] };
    expect((await service.request('POST', '/v1/commits', both)).json.detail).to.include('not both');
    const deleted = { writes: [{ delete: 'a/b', ttl: 5 }] };
    expect((await service.request('POST', '/v1/commits', deleted)).status).to.equal(400);
    expect((await read('a/b')).status, 'nothing was written').to.equal(404);
  });

  it('get an end only from those who may delete them', async () => {
    const text =
      "collections: { notes: { read: true, create: true, update: true, delete: \"claim('role') = 'lead'\" } }";
    await service.request('PUT', '/v1/policy', { text });
    const account = { name: 'ada', password: 'a-password-of-ada' };
    const { accessToken } = (await service.as(null)('POST', '/v1/accounts', account)).json as { accessToken: string };
    const ada = service.as(accessToken);
    await put('notes/n-1', '', { text: 'not hers' });
    const refused = await ada('PATCH', '/v1/data/notes/n-1?ttl=1', {});
    expect(refused.json.type).to.equal('/problems/not-allowed');
    expect(refused.json.detail).to.include('may delete');
    expect((await ada('PATCH', '/v1/data/notes/n-1', { more: 1 })).status).to.equal(200);
    expect((await ada('PUT', '/v1/data/notes/n-2?ttl=60', {})).status, 'what she creates').to.equal(201);
  });

  it('end after a pause of the service, many at once, while others write', async () => {
    const directory = temporaryDirectory();
    const port = await freePort();
    let process = await ServedProcess.start(directory.path, port);
    let store = connect(process.url, { token: KEY });
    const expires = inSeconds(1);
    for (let from = 0; from < 5000; from += 1000) {
      const writes = Array.from({ length: 1000 }, (_, n) => ({ put: `many/d-${from + n}`, data: { n }, expires }));
      await store.commit({ writes });
    }
    await store.collection('many').put('stays', { n: 0 });
    store.close();
    await process.stop('SIGKILL');
    await new Promise((resolve) => setTimeout(resolve, 1000));
    process = await ServedProcess.start(directory.path, port);
    store = connect(process.url, { token: KEY });
    let longestMs = 0;
    await until('all have ended', async () => {
      const startedMs = performance.now();
      await store.collection('other').put('o-1', { n: 1 });
      longestMs = Math.max(longestMs, performance.now() - startedMs);
      return (await store.collection('many').list({ limit: 10 })).documents.length === 1;
    });
    expect(longestMs, 'others do not wait for all of them').to.be.below(5000);
    store.close();
    await process.stop('SIGTERM');
    directory.remove();
  });

  it('show their end in the client at once, and leave its watches', async () => {
    const store = service.client();
    await store.ready();
    const watch = store.collection('a').watch();
    await until('the watch is live', () => watch.current.state === 'live');
    const done = store.collection('a').create({ n: 1 }, { ttl: 30 });
    const pending = watch.current.byId.get(done.id);
    expect(pending?.expires, 'a pending document has its end').to.be.a('string');
    await done;
    const { expires, updated } = (await read(`a/${done.id}`)).json;
    expect(Date.parse(expires) - Date.parse(updated)).to.equal(30_000);
    await store.collection('a').merge(done.id, {}, { expires: null });
    await until('the watch has it', () => watch.current.byId.get(done.id)?.expires === undefined);
    await store.collection('a').put(done.id, { n: 2 }, { ttl: 0.3 });
    await until('it leaves the watch', () => !watch.current.byId.has(done.id));
    store.close();
  });
});

describe('a device whose clock is a day behind', () => {
  it('writes documents that last as long as it says', async () => {
    const directory = temporaryDirectory();
    const shift = new URL('../../../test/shift-clock.mjs', import.meta.url).href;
    const ahead = { NODE_OPTIONS: `--import=${shift}`, CLOCK_SHIFT_MS: '86400000' };
    const process = await ServedProcess.start(directory.path, 0, [], ahead);
    const notes = connect(process.url, { token: KEY });
    await notes.collection('notes').put('short', {}, { ttl: 2 });
    await notes.collection('notes').put('long', {}, { ttl: 3600 });
    expect(await notes.collection('notes').get('short'), 'not at once').not.to.equal(undefined);
    await until('it has ended', async () => (await notes.collection('notes').get('short')) === undefined);
    expect(await notes.collection('notes').get('long')).not.to.equal(undefined);
    notes.close();
    await process.stop('SIGTERM');
    directory.remove();
  });
});

describe('documents that end in a cluster', () => {
  it('are ended by the node that is in charge, and by another when that one is lost', async () => {
    const etcd = await Etcd.start(1);
    const nodes = [await startNode(etcd, 'ends/'), await startNode(etcd, 'ends/')];
    const holder = async () => {
      const { node, leases } = (await nodes[0]!.request('GET', '/v1/cluster')).json;
      const held = leases.find(({ work }: { work: string }) => work === 'maintenance');
      return held === undefined ? undefined : held.node === node ? 0 : 1;
    };
    await until('one is in charge', async () => (await holder()) !== undefined);
    const [first, other] = [nodes[(await holder())!]!, nodes[1 - (await holder())!]!];
    await other.request('PUT', '/v1/data/a/b?ttl=0.5', {});
    for (const node of nodes) {
      await until('it has ended', async () => (await node.request('GET', '/v1/data/a/b')).status === 404);
    }
    await other.request('PUT', '/v1/data/a/c?ttl=1', {});
    await first.service.close();
    await until('the other ends it', async () => (await other.request('GET', '/v1/data/a/c')).status === 404, 30_000);
    for (const node of nodes) await node.stop();
    await etcd.stop();
  });
});
