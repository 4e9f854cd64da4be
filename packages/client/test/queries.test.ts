import { expect } from 'chai';
import { compareBy, parseOrder, type Document } from '@uproar/core';
import { isProblem, type SocketLike, type View } from '@uproar/client';
import { Random } from '../../../test/random.js';
import { modelData, modelQuery } from '../../../test/random-query.js';
import { WebSocket } from 'ws';
import { TestService, until } from '../../../test/service.js';

describe('queries of the client', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  it('keep views in the order of the query, with the moves that lead from one to the next', async () => {
    const random = new Random(121);
    const store = service.client();
    const crews = store.collection('crews');
    const order = '-rank,name';
    const watch = crews.watch({ order, limit: 6 });
    let shown: string[] = [];
    const views: View[] = [];
    watch.subscribe((view) => {
      views.push(view);
      // The moves alone lead from the documents shown before to those shown now.
      const moved = new Map(view.changes.map((move) => [move.id, move]));
      const rest = shown.filter((id) => !moved.has(id));
      const entering = view.changes.filter(({ to }) => to !== undefined).sort((a, b) => a.to! - b.to!);
      for (const { id, to } of entering) rest.splice(to!, 0, id);
      if (view.state === 'live') expect(rest).to.deep.equal(view.documents.map(({ id }) => id));
      for (const { id, from } of view.changes)
        expect(from, `${id} stood there before`).to.equal(shown.includes(id) ? shown.indexOf(id) : undefined);
      shown = view.documents.map(({ id }) => id);
    });
    await until('it is live', () => watch.current.state === 'live');
    const compare = compareBy(parseOrder(order));
    for (let step = 0; step < 120; step++) {
      const id = `c-${random.integer(0, 11)}`;
      if (random.chance(0.2)) await crews.delete(id).catch(() => undefined);
      else await crews.put(id, { rank: random.integer(0, 4), name: random.pick(['a', 'b', 'c']), step });
      const all = (await crews.list({ limit: 100 })).documents as Document[];
      const expected = [...all].sort(compare).slice(0, 6);
      expect(watch.current.documents).to.deep.equal(expected);
      expect(watch.current.more).to.equal(all.length > 6);
    }
    expect(views.length).to.be.above(50);
    watch.close();
  });

  it('follow ids and groups that need an escape in a patch, without being read again', async () => {
    let watches = 0;
    const openSocket = (url: string) => {
      const socket = new WebSocket(url) as unknown as SocketLike;
      const send = socket.send.bind(socket);
      socket.send = (text) => {
        if (text.includes('"method":"watch"')) watches++;
        send(text);
      };
      return socket;
    };
    const odd = service.client({ openSocket, transport: 'socket' }).collection('odd-ids');
    const [all, groups] = [odd.watch(), odd.summary('count()', 'place').watch()];
    const counts = () => Object.fromEntries(groups.current.documents.map(({ data }) => [data.place, data['count()']]));
    for (const id of ['b~1', '~0', '~']) await odd.put(id, { place: 'a/b~' });
    await odd.put('b~1', { place: 'a/b~', n: 1 });
    await odd.put('~0', { place: '/' });
    await odd.delete('~');
    await until('the views are right', () => all.current.documents.length === 2 && counts()['/'] === 1);
    expect(all.current.documents.map(({ id }) => id)).to.deep.equal(['b~1', '~0']);
    expect(all.current.byId.get('b~1')!.data).to.deep.equal({ place: 'a/b~', n: 1 });
    expect(counts()).to.deep.equal({ 'a/b~': 1, '/': 1 });
    expect(watches).to.equal(2);
  });

  it('give the same once and live, for random queries', async () => {
    const random = new Random(131);
    const store = service.client();
    const model = store.collection('model');
    await store.commit({
      writes: Array.from({ length: 40 }, (_, n) => ({ put: `model/m~${n}`, data: modelData(random) })),
    });
    const forms = Array.from({ length: 25 }, () => modelQuery(random, 'model').form);
    const watches = forms.map(({ from: _, ordered: __, ...query }) => model.watch(query));
    await until('all are live', () => watches.every(({ current }) => current.state === 'live'));
    for (let round = 0; round < 15; round++) {
      await store.commit({
        writes: Array.from({ length: 5 }, () => ({ put: `model/m~${random.integer(0, 45)}`, data: modelData(random) })),
      });
      for (const [index, { from: _, ordered: __, limit, ...query }] of forms.entries()) {
        const { documents } = await model.list({ ...query, limit: limit === 'none' ? 1000 : limit });
        expect(watches[index]!.current.documents, JSON.stringify(forms[index])).to.deep.equal(documents);
      }
    }
    for (const watch of watches) watch.close();
  });

  it('show related documents, and keep them while own writes are pending', async () => {
    const store = service.client();
    const [hulls, teams] = [store.collection('hulls'), store.collection('teams')];
    await store.commit({
      writes: [
        { put: 'teams/t-1', data: { n: 1 } },
        { put: 'hulls/h-1', data: { team: 't-1' } },
      ],
    });
    const watch = hulls.include({ team: { from: 'teams', via: 'team' } }).watch();
    const other = hulls.include('team = teams via team').order('team').limit(5);
    await until('it is live', () => watch.current.state === 'live');
    const teamOf = (id: string) => watch.current.byId.get(id)?.related?.team;
    expect(teamOf('h-1')).to.deep.include({ id: 't-1', data: { n: 1 } });
    const writing = hulls.merge('h-1', { name: 'a' });
    expect(watch.current.byId.get('h-1')!.data).to.deep.equal({ team: 't-1', name: 'a' });
    expect(teamOf('h-1'), 'while it is pending').to.deep.include({ id: 't-1' });
    const creating = hulls.put('h-2', { team: 't-1' });
    expect(watch.current.byId.get('h-2')!.related, 'not known yet').to.deep.equal({});
    await Promise.all([writing, creating]);
    expect(teamOf('h-2')).to.deep.include({ id: 't-1' });
    const before = watch.current.byId.get('h-1');
    await teams.merge('t-1', { n: 2 });
    await until('the change of the team', () => watch.current.byId.get('h-1') !== before);
    expect(teamOf('h-1')).to.deep.include({ data: { n: 2 } });
    expect((await other.list()).documents).to.deep.equal(watch.current.documents);
    watch.close();
  });

  it('fail with the place of a mistake, once and live', async () => {
    const balloons = service.client().collection('balloons');
    const error = await balloons.list({ where: 'altitude >' }).catch((reason: unknown) => reason);
    expect(isProblem(error, 'bad-query') && error.problem.position).to.equal(10);
    const watch = balloons.watch({ where: 'altitude >' });
    await until('it has failed', () => watch.current.state === 'failed');
    expect(watch.current.error).to.deep.include({ position: 10, type: '/problems/bad-query' });
  });

  it('that are hostile are refused quickly, and others are served meanwhile', async () => {
    const store = service.client();
    const balloons = store.collection('balloons');
    await balloons.put('a', { altitude: 1, name: 'a'.repeat(20_000) });
    const deep = (levels: number): unknown =>
      levels === 0 ? { op: '=', args: [1, 1] } : { op: 'not', args: [deep(levels - 1)] };
    const started = performance.now();
    const hostile = [
      `${'('.repeat(1000)}altitude = 1${')'.repeat(1000)}`,
      `altitude = 1${' OR altitude = 2'.repeat(30_000)}`,
      `altitude IN (${Array.from({ length: 30_000 }, (_, n) => n).join(', ')})`,
      deep(1000),
    ];
    const refusals = await Promise.all(
      hostile.map((where) => balloons.list({ where: where as string }).catch((reason: unknown) => reason)),
    );
    for (const refusal of refusals) expect(isProblem(refusal, 'bad-query')).to.equal(true);
    const allowed = await balloons.list({
      where: `altitude = 1${' OR altitude = 2'.repeat(4000)} OR name LIKE '${'%a'.repeat(500)}b'`,
    });
    expect(allowed.documents).to.have.length(1);
    expect((await service.request('GET', '/healthz')).status).to.equal(200);
    expect(performance.now() - started).to.be.below(60_000);
  });
});
