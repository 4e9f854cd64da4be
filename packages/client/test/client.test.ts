import { expect } from 'chai';
import {
  connect,
  ConnectionError,
  isProblem,
  type Document,
  type ProblemError,
  type View,
  type Watch,
} from '@uproar/client';
import { compareStrings } from '@uproar/core';
import { HostileLink } from '../../../test/hostile-link.js';
import { KEY, TestService, until } from '../../../test/service.js';
import { Random } from '../../../test/random.js';

describe('the client', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  const live = (watch: Watch) => until('the watch is live', () => watch.current.state === 'live');

  it('writes, reads and deletes documents', async () => {
    const balloons = service.client().collection('balloons');
    const version = await balloons.put('bl-1', { name: 'Amber', fuel: 5 });
    expect(await balloons.get('bl-1')).to.deep.include({ id: 'bl-1', version, data: { name: 'Amber', fuel: 5 } });
    expect(await balloons.merge('bl-1', { fuel: null })).to.equal(version + 1);
    expect((await balloons.get('bl-1'))?.data).to.deep.equal({ name: 'Amber' });
    const id = await balloons.create({ name: 'Coral' });
    expect((await balloons.list()).documents.map((document) => document.id)).to.have.members(['bl-1', id]);
    await balloons.delete('bl-1');
    expect(await balloons.get('bl-1')).to.equal(undefined);
  });

  it('report why they were refused', async () => {
    const pads = service.client().collection('pads');
    const version = await pads.put('p-1', { claimedBy: null });
    await pads.merge('p-1', { claimedBy: 'c-1' }, { ifVersion: version });
    const error = await pads
      .merge('p-1', { claimedBy: 'c-2' }, { ifVersion: version })
      .catch((reason: unknown) => reason);
    expect(isProblem(error, 'version-mismatch')).to.equal(true);
    expect((error as ProblemError).problem).to.include({ document: 'pads/p-1', currentVersion: version + 1 });
  });

  it('says whether a view is still loading, or loaded and empty', async () => {
    const watch = service.client().collection('nothing').watch();
    const states: string[] = [];
    watch.subscribe(({ state, documents }) => states.push(`${state} ${documents.length}`));
    await live(watch);
    expect(states).to.deep.equal(['loading 0', 'live 0']);
    watch.close();
  });

  it('hands out views whose documents are in order, keep their identity, and whose moves say what became of them', async () => {
    const store = service.client();
    const crews = store.collection('crews');
    for (const id of ['b', 'd', 'f']) await crews.put(id, { n: 0 });
    const watch = crews.watch();
    await live(watch);
    const views: View[] = [];
    watch.subscribe((view) => views.push(view));
    await service.client().commit({
      writes: [
        { put: 'crews/a', data: { n: 1 } },
        { merge: 'crews/d', data: { n: 2 } },
        { delete: 'crews/b' },
        { put: 'crews/z', data: {} },
      ],
    });
    await until('the view', () => views.length > 1);
    const [before, after] = views as [View, View];
    expect(views, 'one commit, one view').to.have.length(2);
    expect(after.documents.map(({ id }) => id)).to.deep.equal(['a', 'd', 'f', 'z']);
    expect(after.byId.get('f')).to.equal(before.byId.get('f'));
    expect(after.changes).to.have.deep.members([
      { id: 'a', from: undefined, to: 0 },
      { id: 'd', from: 1, to: 1 },
      { id: 'b', from: 0, to: undefined },
      { id: 'z', from: undefined, to: 3 },
    ]);
    watch.close();
  });

  it('can be iterated over, until it is closed', async () => {
    const store = service.client();
    const notices = store.collection('notices');
    const watch = notices.watch();
    const seen: number[] = [];
    const iteration = (async () => {
      for await (const view of watch) seen.push(view.documents.length);
    })();
    await live(watch);
    for (let n = 0; n < 3; n++) await notices.create({ n });
    await until('the views', () => seen.at(-1) === 3);
    watch.close();
    await iteration;
    expect(seen).to.deep.equal([...seen].sort());
  });

  it('stops watches on the service that are no longer used', async () => {
    const store = service.client();
    const watch = store.collection('brief').watch();
    await live(watch);
    const { name } = watch;
    watch.close();
    await until('it is gone there', async () =>
      isProblem(await store.call('unwatch', { watch: name! }).catch((error: unknown) => error), 'no-such-watch'),
    );
  });

  it('refuses at once when the key is wrong, and says so', async () => {
    const store = connect(service.url, { token: 'wrong-key-0123456789' });
    const error = await store.ready().catch((reason: unknown) => reason);
    expect(isProblem(error, 'key-unknown')).to.equal(true);
    expect(store.state.name).to.equal('refused');
    const watch = store.collection('balloons').watch();
    expect(watch.current).to.deep.include({ state: 'failed' });
    expect((await store.check()).map(({ step, ok }) => `${step} ${ok}`)).to.deep.equal(['address true', 'key false']);
    store.close();
  });

  it('says at once when nothing answers, and what else is there', async () => {
    const unreachable = connect('http://127.0.0.1:1', { token: KEY });
    expect(await unreachable.ready().catch((reason: unknown) => reason)).to.be.instanceOf(ConnectionError);
    expect(unreachable.state.name).to.equal('offline');
    expect((await unreachable.check())[0]).to.include({ step: 'address', ok: false });
    unreachable.close();
    expect(() => connect('ftp://127.0.0.1', { token: KEY })).to.throw(TypeError);
    expect((await service.client().check()).map(({ ok }) => ok)).to.deep.equal([true, true, true, true]);
  });

  it('checks the connection to the address that answers', async () => {
    // It begins with a random one.
    for (let n = 0; n < 10; n++) {
      const store = connect(['http://127.0.0.1:1', service.url], { token: KEY });
      expect((await store.check()).map(({ ok, detail }) => [ok, detail])[0]).to.deep.equal([
        true,
        `a store answers at ${service.url}`,
      ]);
      store.close();
    }
  });

  it('shows a stale view while the service is away, and resumes afterwards', async () => {
    const own = await TestService.start();
    const store = own.client();
    const watch = store.collection('balloons').watch();
    const states = new Set<string>();
    watch.subscribe(({ state }) => states.add(state));
    await store.collection('balloons').put('a', { n: 1 });
    await live(watch);
    const document = watch.current.byId.get('a');
    await own.restart();
    await until('it is live again', () => states.has('stale') && watch.current.state === 'live');
    expect(watch.current.byId.get('a'), 'nothing was loaded again').to.equal(document);
    await store.collection('balloons').put('b', {});
    expect(watch.current.documents).to.have.length(2);
    await own.stop();
  });

  it('uses plain requests if the constructor of the WebSocket throws an error', async () => {
    const openSocket = () => {
      throw new Error('This page may open no WebSocket.');
    };
    const store = service.client({ openSocket, backoffMs: () => 20 });
    const watch = store.collection('pages').watch();
    await store.collection('pages').put('a', { n: 1 });
    await until('the view', () => watch.current.byId.get('a')?.data.n === 1);
    store.close();
  });

  it('without an outbox rejects a call whose answer was cut off, instead of guessing', async () => {
    const proxy = await HostileLink.start(service.url);
    const store = connect(proxy.url, { token: KEY, backoffMs: () => 20, outbox: false });
    await store.ready();
    proxy.swallow = true;
    const commit = store
      .collection('cut')
      .put('a', {})
      .catch((reason: unknown) => reason);
    await new Promise((resolve) => setTimeout(resolve, 50));
    proxy.cutAll();
    expect(await commit).to.be.instanceOf(ConnectionError);
    store.close();
    await proxy.stop();
  });

  it('ends in the right state over a link that breaks again and again, in the middle of frames too', async function () {
    const proxy = await HostileLink.start(service.url);
    const random = new Random(51);
    const stores = Array.from({ length: 5 }, () =>
      connect(proxy.url, { token: KEY, backoffMs: () => 20, callTimeoutMs: 3000 }),
    );
    const watches = stores.map((store) => store.collection('rough').watch());
    const direct = service.client().collection('rough');
    for (let round = 0; round < 25; round++) {
      for (let n = random.integer(1, 8); n > 0; n--) {
        const id = `r~${random.integer(0, 15)}`;
        const exists = (await direct.get(id)) !== undefined;
        if (exists && random.chance(0.25)) await direct.delete(id);
        else await direct.put(id, { n: random.integer(0, 100), text: 'x'.repeat(random.integer(0, 3000)) });
      }
      if (random.chance(0.6)) proxy.cutAll();
      else if (random.chance(0.5)) proxy.cutAfterBytes = random.integer(0, 4000);
      await new Promise((resolve) => setTimeout(resolve, random.integer(0, 60)));
    }
    proxy.cutAfterBytes = Number.POSITIVE_INFINITY;
    const documents = (await direct.list({ limit: 1000 })).documents as Document[];
    for (const watch of watches) {
      await until(
        'the view equals the store',
        () =>
          JSON.stringify(watch.current.documents.map(({ id, version }) => [id, version])) ===
          JSON.stringify(documents.map(({ id, version }) => [id, version])),
        15_000,
      );
      expect(watch.current.documents).to.deep.equal(documents);
      expect([...watch.current.byId.keys()].sort(compareStrings)).to.deep.equal(documents.map(({ id }) => id));
    }
    for (const store of stores) store.close();
    await proxy.stop();
  });
});
