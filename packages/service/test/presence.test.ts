import { expect } from 'chai';
import { connect, type Store } from '@uproar/client';
import type { JournalEvent } from '@uproar/protocol';
import { startNode } from '../../../test/cluster-nodes.js';
import { Etcd } from '../../../test/etcd.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

/** Long enough for a client to come back on a machine with other work. */
const GRACE = { presenceGraceMs: 2000 };
/** Longer than that. */
const AFTER_GRACE_MS = 3500;

const exists = async (service: TestService, address: string) =>
  (await service.request('GET', `/v1/data/${address}`)).status === 200;
const gone = (service: TestService, address: string) =>
  until(`${address} has gone`, async () => !(await exists(service, address)), 20_000);
const history = async (service: TestService, address: string) => {
  const { events } = (await service.request('GET', `/v1/journal?doc=${address}`)).json as { events: JournalEvent[] };
  return events.map(({ type, identity }) => `${type.split('.').at(-1)} ${identity}`);
};

describe('documents that live as long as a connection', () => {
  let service: TestService;
  beforeEach(async () => {
    service = await TestService.start({ ...GRACE, tokens: TOKEN_SETTINGS });
  });
  afterEach(() => service.stop());

  const open = async (token = KEY) => {
    const socket = await RawSocket.open(service);
    await socket.call('hello', { token });
    return socket;
  };
  const hold = (socket: RawSocket, address: string, data: object = {}) =>
    socket.call('commit', { writes: [{ put: address, data, whileConnected: true }] });

  it('are deleted by a commit of their own a while after the connection has ended', async () => {
    const socket = await open();
    await hold(socket, 'online/truck-1', { crew: 'c-1' });
    await new Promise((resolve) => setTimeout(resolve, AFTER_GRACE_MS));
    expect(await exists(service, 'online/truck-1'), 'while it is connected').to.equal(true);
    const endedMs = Date.now();
    socket.socket.terminate();
    await gone(service, 'online/truck-1');
    expect(Date.now() - endedMs, 'after the grace').to.be.at.least(GRACE.presenceGraceMs);
    expect(await history(service, 'online/truck-1')).to.deep.equal(['created key:environment', 'deleted presence']);
  });

  it('stay as they are when the client comes back in time, without a new version', async () => {
    const first = await open();
    await hold(first, 'online/truck-1', { crew: 'c-1' });
    first.socket.terminate();
    const second = await open();
    const again = await hold(second, 'online/truck-1', { crew: 'c-1' });
    expect(again.result.documents[0].version, 'the same data').to.equal(1);
    await new Promise((resolve) => setTimeout(resolve, AFTER_GRACE_MS));
    expect(await history(service, 'online/truck-1')).to.deep.equal(['created key:environment']);
    second.socket.terminate();
    await gone(service, 'online/truck-1');
  });

  it('live until the last of several connections has ended or let them go', async () => {
    const [one, two] = [await open(), await open()];
    await hold(one, 'online/ada');
    await hold(two, 'online/ada');
    one.socket.terminate();
    await new Promise((resolve) => setTimeout(resolve, AFTER_GRACE_MS));
    expect(await exists(service, 'online/ada')).to.equal(true);
    expect(await two.call('release', { doc: 'online/ada' })).to.have.property('result');
    await gone(service, 'online/ada');
  });

  it('become ordinary ones when they are put without a connection, and can be deleted by others', async () => {
    const socket = await open();
    await hold(socket, 'online/a');
    await hold(socket, 'online/b');
    await service.request('PUT', '/v1/data/online/a', { kept: true });
    await service.request('PATCH', '/v1/data/online/b', { changed: true });
    await service.request('PUT', '/v1/data/online/c', {});
    await hold(socket, 'online/c', { from: 'socket' });
    await service.request('DELETE', '/v1/data/online/c');
    socket.socket.terminate();
    await gone(service, 'online/b');
    await new Promise((resolve) => setTimeout(resolve, AFTER_GRACE_MS));
    expect(await exists(service, 'online/a')).to.equal(true);
    expect(await history(service, 'online/c')).to.have.length(3);
  });

  it('need the permission of the policy, and end with the identity of the connection', async () => {
    const rule = "claim('sub') = who";
    await service.setPolicy({ collections: { online: { read: true, create: rule, update: rule } } });
    const ada = await open(await makeToken({ sub: 'ada' }));
    expect((await hold(ada, 'online/bo', { who: 'bo' })).error.data.type).to.equal('/problems/not-allowed');
    await hold(ada, 'online/ada', { who: 'ada' });
    // It may be updated, but not deleted, and so not be made to end.
    await service.request('PUT', '/v1/data/online/lasting', { who: 'ada' });
    expect((await hold(ada, 'online/lasting', { who: 'ada' })).error.data).to.include({ rule: 'delete' });
    // Holding another one's document with the same data would keep it alive.
    const bo = await open(await makeToken({ sub: 'bo' }));
    expect((await hold(bo, 'online/ada', { who: 'ada' })).error.data.type).to.equal('/problems/not-allowed');
    await ada.call('hello', { token: await makeToken({ sub: 'cy' }) });
    await gone(service, 'online/ada');
  });

  it('are refused where there is no connection to live as long as', async () => {
    const writes = [{ put: 'online/a', data: {}, whileConnected: true }];
    const refused = await service.request('POST', '/v1/commits', { writes });
    expect(refused.json).to.include({ type: '/problems/bad-request', pointer: '/writes/0/whileConnected' });
    const socket = await open();
    const both = await socket.call('commit', { writes: [{ put: 'online/a', data: {}, whileConnected: true, ttl: 5 }] });
    expect(both.error.data.type).to.equal('/problems/bad-request');
    const many = Array.from({ length: 101 }, (_, n) => ({ put: `online/d-${n}`, data: {}, whileConnected: true }));
    expect((await socket.call('commit', { writes: many })).error.data.type).to.equal('/problems/limit-reached');
    expect(await exists(service, 'online/d-0')).to.equal(false);
  });

  it('end after a restart of the service, unless their clients come back', async () => {
    const socket = await open();
    await hold(socket, 'online/lost');
    const store = service.client();
    const presence = await store.collection('online').present('truck-1', { crew: 'c-1' });
    await service.restart();
    await gone(service, 'online/lost');
    expect(await exists(service, 'online/truck-1')).to.equal(true);
    await presence.update({ crew: 'c-2' });
    expect((await service.request('GET', '/v1/data/online/truck-1')).json.data).to.deep.equal({ crew: 'c-2' });
    await presence.leave();
    await gone(service, 'online/truck-1');
  });

  it('tell the client when the store refuses them, at once or after a reconnect', async () => {
    const policy = (rule: boolean) =>
      service.setPolicy({ anonymous: true, collections: { online: { create: rule, update: rule } } });
    await policy(false);
    const store = connect(service.url, { backoffMs: () => 30 });
    try {
      let problem: { problem: { type: string } } | undefined;
      await store
        .collection('online')
        .present('a', {})
        .catch((error: typeof problem) => (problem = error));
      expect(problem!.problem.type).to.equal('/problems/not-allowed');
      await policy(true);
      const presence = await store.collection('online').present('a', {});
      await policy(false);
      await service.restart();
      await until('it is refused', () => presence.refused !== undefined);
    } finally {
      store.close();
    }
  });

  it('get an end instead over HTTP, which is moved on while the client is there', async () => {
    const store = service.client({ transport: 'http' });
    const presence = await store.collection('online').present('a', { n: 1 });
    const { expires } = (await service.request('GET', '/v1/data/online/a')).json as { expires: string };
    expect(Date.parse(expires) - Date.now()).to.be.within(20_000, 30_000);
    await presence.leave();
    await gone(service, 'online/a');
  });
});

describe('presence in a cluster', () => {
  it('follows a client to another node, and ends with a node that is lost', async () => {
    const etcd = await Etcd.start(1);
    const options = GRACE;
    const nodes = [await startNode(etcd, 'present/', options), await startNode(etcd, 'present/', options)];
    const [one, two] = nodes as [TestService, TestService];
    const stores: Store[] = [];
    try {
      const moving = connect([one.url, two.url], { token: KEY, backoffMs: () => 30 });
      await moving.ready();
      const [first, other] = moving.url === one.url ? [one, two] : [two, one];
      const staying = connect(first.url, { token: KEY, backoffMs: () => 30 });
      stores.push(moving, staying);
      await moving.collection('online').present('moving', {});
      await staying.collection('online').present('staying', {});
      await first.service.close();
      await gone(other, 'online/staying');
      expect(await exists(other, 'online/moving'), 'it went to another node').to.equal(true);
      expect(await history(other, 'online/moving')).to.deep.equal(['created key:environment']);
      moving.close();
      await gone(other, 'online/moving');
    } finally {
      for (const store of stores) store.close();
      for (const node of nodes) await node.stop();
      await etcd.stop();
    }
  });
});
