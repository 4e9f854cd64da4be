import { expect } from 'chai';
import { from } from 'rxjs';
import { z } from 'zod';
import { connect, field, SchemaViolationError, where, type SchemaViolation, type View } from '@uproar/client';
import { KEY, TestService, until } from '../../../test/service.js';

const Balloon = z.object({
  name: z.string(),
  altitude: z.number(),
  pilot: z.object({ name: z.string() }).optional(),
  tags: z.array(z.string()).optional(),
});

describe('typed collections', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  it('type documents that are read and written', async () => {
    const balloons = service.client().collection('balloons', Balloon);
    await balloons.put('bl-1', { name: 'Amber', altitude: 120 });
    const document = (await balloons.get('bl-1'))!;
    const altitude: number = document.data.altitude;
    expect(altitude).to.equal(120);
    const watch = balloons.where`altitude > ${100}`.watch();
    await until('live', () => watch.current.state === 'live');
    const name: string = watch.current.documents[0]!.data.name;
    expect(name).to.equal('Amber');
    await balloons.merge('bl-1', { altitude: 130, pilot: { name: 'Ines' }, tags: null });
    // What follows is not run; it must not compile without the marks.
    const wrong = () => [
      // @ts-expect-error: no such field
      document.data.speed,
      // @ts-expect-error: another type
      balloons.put('bl-1', { name: 'Amber', altitude: 'high' }),
      // @ts-expect-error: a field is missing
      balloons.create({ name: 'Amber' }),
      // @ts-expect-error: no such field
      balloons.merge('bl-1', { speed: 3 }),
      // @ts-expect-error: null cannot stand in a condition
      where`altitude = ${null}`,
    ];
    expect(wrong).to.be.a('function');
    watch.close();
  });

  it('report documents that do not fit, with id and field, and keep, drop or fail', async () => {
    const plain = service.client().collection('odd');
    await plain.put('good', { name: 'Amber', altitude: 1 });
    await plain.put('odd', { name: 'Coral', altitude: 'high' });
    const violations: SchemaViolation[] = [];
    const store = service.client({ onViolation: (violation) => violations.push(violation) });
    const show = async (onViolation: 'keep' | 'drop' | 'fail') => {
      const watch = store.collection('odd', Balloon, { onViolation }).watch();
      await until('something is shown', () => watch.current.state !== 'loading');
      return watch;
    };
    const kept = await show('keep');
    expect(kept.current.documents.map(({ id }) => id)).to.deep.equal(['good', 'odd']);
    expect(violations[0]).to.deep.include({ collection: 'odd', id: 'odd', pointer: '/altitude' });
    await plain.put('late', { name: 1 });
    await until('one that comes later is reported too', () => violations.some(({ id }) => id === 'late'));
    await plain.delete('late');
    await until('it has gone', () => kept.current.documents.length === 2);
    const dropped = await show('drop');
    expect(dropped.current).to.deep.include({ state: 'live' });
    expect(dropped.current.documents.map(({ id }) => id)).to.deep.equal(['good']);
    const failed = await show('fail');
    expect(failed.current.state).to.equal('failed');
    expect(failed.current.error!.detail).to.include('odd/odd').and.include('/altitude');
    await plain.merge('odd', { altitude: 5 });
    await until('it fits now', () => dropped.current.documents.length === 2);
    await plain.merge('good', { altitude: null });
    await until('it fits no more', () => dropped.current.documents.map(({ id }) => id).join() === 'odd');
    expect(
      await store
        .collection('odd', Balloon, { onViolation: 'fail' })
        .get('good')
        .catch((error: unknown) => error),
    ).to.be.instanceOf(SchemaViolationError);
    expect(() => store.collection('odd', Balloon).put('x', { name: 'x' } as never)).to.throw(SchemaViolationError);
  });
});

describe('conditions as templates', () => {
  it('quote every value', () => {
    const CASES: [string, string][] = [
      [where`name = ${"O'Dell' OR 'a' = 'a"}`.text, "name = 'O''Dell'' OR ''a'' = ''a'"],
      [where`n > ${-1.5e-7} AND open = ${true}`.text, 'n > -1.5e-7 AND open = TRUE'],
      [where`crew IN ${['c-1', 'c-2']}`.text, "crew IN ('c-1', 'c-2')"],
      [where`seen > ${new Date(0)}`.text, "seen > '1970-01-01T00:00:00.000Z'"],
      [
        where`${where`a = ${1} OR b = ${2}`} AND ${field('pilot.first name')} = ${'x'}`.text,
        `(a = 1 OR b = 2) AND pilot."first name" = 'x'`,
      ],
    ];
    for (const [found, expected] of CASES) expect(found).to.equal(expected);
    for (const wrong of [null, undefined, Number.NaN, Infinity, {}, [null], 'half \ud83c']) {
      expect(() => where`a = ${wrong as never}`, String(wrong)).to.throw(TypeError);
    }
  });

  it('match exactly the value, with any characters', async () => {
    const service = await TestService.start();
    const notes = service.client().collection('notes');
    const texts = ["it's", "''", '"quoted"', "a' OR 'a'='a", '\\', 'ß \u{1F388}', '%', ''];
    for (const [n, text] of texts.entries()) await notes.put(`n-${n}`, { text, 'odd name': n });
    for (const [n, text] of texts.entries()) {
      const { documents } = await notes.where`text = ${text}`.where`${field('odd name')} = ${n}`.list();
      expect(
        documents.map(({ id }) => id),
        text,
      ).to.deep.equal([`n-${n}`]);
    }
    const chained = notes.order('-text').limit(2).fields('text');
    expect((await chained.list()).documents.map(({ id }) => id)).to.deep.equal(
      (await chained.list()).documents.map(({ id }) => id),
    );
    expect((await notes.order('text').get())!.data.text).to.equal('');
    await service.stop();
  });
});

describe('watches on one client', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  it('share what the service sends, and are given up a little after the last is closed', async () => {
    const store = service.client({ graceMs: 60 });
    const pads = store.collection('pads');
    await pads.put('p-1', { n: 1 });
    const first = pads.watch();
    const second = pads.watch();
    await until('both are live', () => first.current.state === 'live' && second.current.state === 'live');
    expect(second.name).to.equal(first.name);
    await pads.put('p-2', {});
    const late = pads.watch();
    expect(late.current.changes, 'all of it is new to who comes later').to.deep.equal([
      { id: 'p-1', from: undefined, to: 0 },
      { id: 'p-2', from: undefined, to: 1 },
    ]);
    late.close();
    expect(second.current.byId.get('p-1')).to.equal(first.current.byId.get('p-1'));
    const { name } = first;
    first.close();
    await pads.merge('p-1', { n: 2 });
    expect(second.current.byId.get('p-1')!.data.n).to.equal(2);
    second.close();
    const third = pads.watch();
    expect(third.current.state, 'taken up again for nothing').to.equal('live');
    expect(third.name).to.equal(name);
    third.close();
    await new Promise((resolve) => setTimeout(resolve, 150));
    const gone = await store.call('unwatch', { watch: name! }).catch((error: unknown) => error);
    expect(gone).to.have.nested.property('problem.type', '/problems/no-such-watch');
  });

  it('come several in one turn as one view', async () => {
    const store = service.client();
    const turns = store.collection('turns');
    const watch = turns.watch();
    await until('live', () => watch.current.state === 'live');
    const views: View[] = [];
    watch.subscribe((view) => views.push(view));
    void turns.put('a', { n: 1 });
    void turns.put('b', { n: 2 });
    void turns.merge('a', { n: 3 });
    await Promise.resolve();
    await Promise.resolve();
    expect(views).to.have.length(2);
    expect(views[1]!.documents.map(({ data }) => data.n)).to.deep.equal([3, 2]);
    await until('settled', () => store.pending === 0);
  });

  it('keep to the contracts of frameworks: store, external store, observable, iteration', async () => {
    const store = service.client();
    const items = store.collection('contract');
    const watch = items.watch();
    // Svelte's store contract: called at once, returns what stops it.
    const seen: View[] = [];
    const stop = watch.subscribe((view) => seen.push(view));
    expect(seen).to.have.length(1);
    // React's useSyncExternalStore: unbound functions, and the same snapshot until something changes.
    const { subscribe } = watch;
    const snapshot = () => watch.current;
    let changes = 0;
    const leave = subscribe(() => changes++);
    expect(snapshot()).to.equal(snapshot());
    // Observables.
    const observed: number[] = [];
    const subscription = from(watch).subscribe((view) => observed.push(view.documents.length));
    const direct = watch.subscribe({ next: () => changes++ });
    await until('live', () => watch.current.state === 'live');
    await items.put('a', {});
    await until('they all heard', () => observed.at(-1) === 1 && seen.at(-1)!.documents.length === 1 && changes > 3);
    stop();
    leave();
    direct.unsubscribe();
    subscription.unsubscribe();
    const before = [seen.length, changes];
    await items.put('b', {});
    expect([seen.length, changes]).to.deep.equal(before);
  });
});

describe('a token', () => {
  it('can be requested for each connection', async () => {
    const service = await TestService.start();
    const tokens = ['wrong-key-0123456789', KEY, KEY];
    let asked = 0;
    const store = connect(service.url, { token: () => Promise.resolve(tokens[asked++] ?? KEY), backoffMs: () => 10 });
    await store.ready().catch(() => undefined);
    expect(store.state.name).to.equal('refused');
    const early = store.collection('a').watch();
    expect(early.current.state).to.equal('failed');
    store.renew();
    await until('online', () => store.state.name === 'online');
    await until('what had failed is live', () => early.current.state === 'live');
    expect(early.current.error).to.equal(undefined);
    expect(asked).to.equal(2);
    const watch = store.collection('a').watch();
    await until('live', () => watch.current.state === 'live');
    store.renew();
    await until('asked again', () => asked === 3 && watch.current.state === 'live');
    store.close();
    await service.stop();
  });
});

describe('fields of typed collections', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  it('are known to orders, lists of fields, totals, includes, adjustments and patches', async () => {
    const store = service.client();
    const balloons = store.collection('balloons', Balloon);
    await balloons.put('bl-1', { name: 'Amber', altitude: 120, pilot: { name: 'Ines' }, tags: [] });
    await balloons.put('bl-2', { name: 'Coral', altitude: 80 });
    const ids = async (query: { list(): Promise<{ documents: { id: string }[] }> }) =>
      (await query.list()).documents.map(({ id }) => id);
    expect(await ids(balloons.order('-altitude, pilot.name'))).to.deep.equal(['bl-1', 'bl-2']);
    expect(await ids(balloons.order("meta('created')"))).to.deep.equal(['bl-1', 'bl-2']);
    expect((await balloons.fields('name,pilot.name').get())!.data).to.deep.equal({
      name: 'Amber',
      pilot: { name: 'Ines' },
    });
    const totals = await balloons.summary('count(), sum(altitude)').get();
    expect(totals!.data).to.deep.equal({ 'count()': 2, 'sum(altitude)': 200 });
    await balloons.adjust('bl-1', {
      '/altitude': { add: 1 },
      '/tags': { with: ['slow'] },
      '/pilot/name': { max: 'Jon' },
    });
    await balloons.patch('bl-1', [{ op: 'add', path: '/tags/0', value: 'first' }]);
    expect((await balloons.get('bl-1'))!.data).to.deep.include({ altitude: 121, tags: ['first', 'slow'] });
    const { related } = (await balloons.include({ crew: { from: 'crews', via: 'pilot.name' } }).get())!;
    expect(related).to.have.property('crew');
    // A text that is not known when it is compiled is checked when it is sent.
    expect(await ids(balloons.order(['-altitude', 'name'].join()))).to.deep.equal(['bl-1', 'bl-2']);
    const loose = store.collection('balloons');
    expect(await ids(loose.order('anything,-goes'))).to.have.length(2);
    // What follows is not run; it must not compile without the marks.
    const wrong = () => [
      // @ts-expect-error: no such field
      balloons.order('-speed'),
      // @ts-expect-error: the second is no field
      balloons.order('name,pilot.nam'),
      // @ts-expect-error: no such field
      balloons.fields('name,speed'),
      // @ts-expect-error: no such field
      balloons.summary('count(),sum(speed)'),
      // @ts-expect-error: no such field
      balloons.summary('count()', 'status'),
      // @ts-expect-error: no such field
      balloons.include({ crew: { from: 'crews', via: 'crewId' } }),
      // @ts-expect-error: no such field
      balloons.adjust('bl-1', { '/speed': { add: 1 } }),
      // @ts-expect-error: no such field
      balloons.patch('bl-1', [{ op: 'remove', path: '/pilot/age' }]),
    ];
    expect(wrong).to.be.a('function');
  });

  it('are known to conditions that are functions of them', async () => {
    const store = service.client();
    const Fact = z.object({
      text: z.string(),
      pilot: z.object({ text: z.string(), 'call sign': z.string() }).optional(),
    });
    const facts = store.collection('facts', Fact);
    await facts.put('f-1', { text: 'Amber', pilot: { text: 'Ines', 'call sign': 'heron' } });
    await facts.put('f-2', { text: 'Coral' });
    const found = async (query: { list(): Promise<{ documents: { id: string }[] }> }) =>
      (await query.list()).documents.map(({ id }) => id).join();
    expect(await found(facts.where(({ text }) => where`${text} = ${'Coral'}`))).to.equal('f-2');
    expect(await found(facts.where(({ pilot }) => where`${pilot.text} = ${'Ines'}`))).to.equal('f-1');
    expect(await found(facts.where((fields) => where`${fields.pilot['call sign']} = ${'heron'}`))).to.equal('f-1');
    expect(await found(facts.where(({ pilot }) => where`${pilot} IS NULL`).limit(5))).to.equal('f-2');
    const loose = store.collection('facts').where(({ pilot }) => where`${pilot!.text!} = ${'Ines'}`);
    expect(await found(loose)).to.equal('f-1');
    // What follows is not run; it must not compile without the marks.
    const wrong = () => [
      // @ts-expect-error: no such field
      facts.where(({ speed }) => where`${speed} > ${1}`),
      // @ts-expect-error: no such field
      facts.where(({ pilot }) => where`${pilot.name} = ${'Ines'}`),
    ];
    expect(wrong).to.be.a('function');
  });

  it('are known to commits and related documents, if the store knows the schemas', async () => {
    const Crew = z.object({ name: z.string(), members: z.array(z.string()) });
    const Flight = z.object({ crewId: z.string(), padIds: z.array(z.string()), start: z.number() });
    const Pad = z.object({ name: z.string() });
    const store = connect(service.url, { token: KEY, collections: { crews: Crew, flights: Flight, pads: Pad } });
    const id = 'f-1';
    await store.commit({
      id: 'typed-1',
      writes: [
        { put: 'crews/c-1', data: { name: 'Ada', members: ['Ines', 'Jon'] } },
        { create: 'pads', id: 'p-1', data: { name: 'Meadow' } },
        { put: `flights/${id}`, data: { crewId: 'c-1', padIds: ['p-1'], start: 4 }, ifVersion: 0 },
        { adjust: `flights/${id}`, by: { '/start': { add: 1 } } },
        { merge: 'crews/c-1', data: { name: 'Bea' } },
        { patch: 'crews/c-1', ops: [{ op: 'add', path: '/members/-', value: 'Kim' }] },
        { put: 'elsewhere/e-1', data: { anything: ['goes'] } },
        { delete: 'elsewhere/e-1' },
      ],
    });
    // Writes that are not known when the program is compiled are checked by the store.
    const writes = ['p-2', 'p-3'].map((pad) => ({ put: `pads/${pad}`, data: { name: pad } }));
    await store.commit({ writes });
    await store.collection('flights').put('f-2', { crewId: 'c-9', padIds: ['p-3', 'p-2'], start: 1 });
    const query = store
      .collection('flights')
      .include({ crew: { from: 'crews', via: 'crewId' }, pads: { from: 'pads', via: 'padIds' } })
      .order('start');
    const [second, first] = (await query.list()).documents;
    const members: string[] = first!.related!.crew!.data.members;
    expect(members).to.deep.equal(['Ines', 'Jon', 'Kim']);
    const pads: string[] = second!.related!.pads.map(({ data }) => data.name);
    expect(pads).to.deep.equal(['p-3', 'p-2']);
    expect(second!.related!.crew).to.equal(null);
    const owned = store.collection('crews').include({
      flights: { from: 'flights', by: 'crewId', include: { pads: { from: 'pads', via: 'padIds' } } },
    });
    await service.request('POST', '/v1/indexes', { collection: 'flights', fields: 'crewId' });
    const watch = owned.watch();
    await until('live', () => watch.current.state === 'live');
    const deep: string = watch.current.documents[0]!.related!.flights[0]!.related!.pads[0]!.data.name;
    expect(deep).to.equal('Meadow');
    // What follows is not run; it must not compile without the marks.
    const wrong = () => [
      // @ts-expect-error: no such field
      store.commit({ writes: [{ put: 'pads/p-1', data: { nam: 'Meadow' } }] }),
      // @ts-expect-error: another type
      store.commit({ writes: [{ merge: 'flights/f-1', data: { start: 'noon' } }] }),
      // @ts-expect-error: one field too many
      store.commit({ writes: [{ put: 'pads/p-1', data: { name: 'Meadow', nam: 'x' } }] }),
      // @ts-expect-error: no such field
      store.commit({ writes: [{ merge: 'crews/c-1', data: { nam: 'Bea' } }] }),
      // @ts-expect-error: no such field
      store.commit({ writes: [{ patch: 'crews/c-1', ops: [{ op: 'remove', path: '/member/0' }] }] }),
      // @ts-expect-error: no such field
      store.commit({ writes: [{ delete: 'pads/p-1' }, { adjust: `flights/${id}`, by: { '/height': { add: 1 } } }] }),
      // @ts-expect-error: no such field
      first!.related!.crew!.data.speed,
      // @ts-expect-error: nothing of that name is included
      first!.related!.pilot,
      // @ts-expect-error: it is a list
      second!.related!.pads.data,
    ];
    expect(wrong).to.be.a('function');
    store.close();
  });

  it('can be given without a schema, or for all collections when connecting', async () => {
    interface Person {
      name: string;
      age?: number;
    }
    const plain = service.client().collection<Person>('people');
    await plain.put('ada', { name: 'Ada' });
    const name: string = (await plain.order('name,age').get())!.data.name;
    expect(name).to.equal('Ada');
    const violations: SchemaViolation[] = [];
    const store = connect(service.url, {
      token: KEY,
      collections: { people: z.object({ name: z.string(), age: z.number() }), balloons: Balloon },
      onViolation: (violation) => violations.push(violation),
    });
    const person = (await store.collection('people').get('ada'))!;
    const age: number = person.data.age;
    expect([age, violations.map(({ pointer }) => pointer)]).to.deep.equal([undefined, ['/age']]);
    const other: unknown = (await store.collection('others').list()).documents[0]?.data.anything;
    expect(other).to.equal(undefined);
    const wrong = () => [
      // @ts-expect-error: no such field
      plain.order('nam'),
      // @ts-expect-error: another type
      store.collection('people').put('x', { name: 'X', age: 'old' }),
      // @ts-expect-error: no such field
      store.collection('balloons').order('speed'),
    ];
    expect(wrong).to.be.a('function');
    store.close();
  });
});
