import { expect } from 'chai';
import { WatchChange, WatchResult } from '@uproar/protocol';
import { StreamReader } from '../../../test/event-stream.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

const CREW = 'crew = crews via crewId';
const FLIGHTS = 'flights by balloonId order -start limit 2';
const address = (collection: string, parts: Record<string, string>) =>
  `/v1/data/${collection}?${new URLSearchParams(parts).toString()}`;

/** Puts documents of collections at once, as `{ "crews/c-1": data }`. */
async function put(service: TestService, documents: Record<string, object>): Promise<void> {
  const writes = Object.entries(documents).map(([doc, data]) => ({ put: doc, data }));
  for (let start = 0; start < writes.length; start += 5000) {
    const { status, text } = await service.request('POST', '/v1/commits', {
      writes: writes.slice(start, start + 5000),
    });
    if (status !== 200) throw new Error(text);
  }
}

const makeIndex = (service: TestService, collection: string, fields: string) =>
  service.request('POST', '/v1/indexes', { collection, fields });

describe('related documents in answers', () => {
  let service: TestService;
  before(async () => {
    service = await TestService.start({ tokens: TOKEN_SETTINGS });
    await put(service, {
      'crews/c-1': { name: 'Hollow', lead: 'ada', phone: '1' },
      'crews/c-2': { name: 'Nook', lead: 'bo', phone: '2' },
      'balloons/b-1': { name: 'Icicle', crewId: 'c-1', helpers: ['c-2', 'none', 'c-1', 'c-2', 4] },
      'balloons/b-2': { name: 'Thistle', crewId: 'gone' },
      'flights/f-1': { balloonId: 'b-1', start: '2026-06-01', pad: 'p-1' },
      'flights/f-2': { balloonId: 'b-1', start: '2026-06-02', pad: 'p-1' },
      'flights/f-3': { balloonId: 'b-1', start: '2026-06-03' },
      'pads/p-1': { name: 'Larkmoor' },
    });
    await makeIndex(service, 'flights', 'balloonId,-start');
  });
  after(() => service.stop());

  const one = async (include: unknown, id = 'b-1') => {
    const body = { from: 'balloons', where: `meta('id') = '${id}'`, include };
    const { status, json, text } = await service.request('POST', '/v1/query', body);
    expect(status, text).to.equal(200);
    return json.documents[0].related;
  };
  const idsOf = (found: { id: string }[]) => found.map(({ id }) => id);

  it('come by a field here, one or a list, and by a field there', async () => {
    const related = await one(`${CREW}; helpers = crews via helpers; ${FLIGHTS} { pad = pads via pad fields name }`);
    expect(related.crew).to.deep.include({ id: 'c-1', data: { name: 'Hollow', lead: 'ada', phone: '1' } });
    expect(related.crew.version).to.be.a('number');
    expect(idsOf(related.helpers)).to.deep.equal(['c-2', 'c-1']);
    expect(idsOf(related.flights)).to.deep.equal(['f-3', 'f-2']);
    expect(related.flights[0].related).to.deep.equal({ pad: null });
    expect(related.flights[1].related.pad).to.deep.equal({ id: 'p-1', data: { name: 'Larkmoor' } });
    expect(await one(`${CREW}; ${FLIGHTS}`, 'b-2')).to.deep.equal({ crew: null, flights: [] });
  });

  it('can be asked for as JSON, with conditions and fields', async () => {
    const related = await one({
      flights: {
        from: 'flights',
        by: 'balloonId',
        where: { op: '<', args: [{ property: 'start' }, '2026-06-03'] },
        order: 'start',
        fields: 'start',
      },
      crew: { from: 'crews', via: 'crewId', where: "lead = 'Unknown'" },
    });
    expect(related.flights).to.deep.equal([
      { id: 'f-1', data: { start: '2026-06-01' } },
      { id: 'f-2', data: { start: '2026-06-02' } },
    ]);
    expect(related.crew).to.equal(null);
  });

  it('come with NDJSON too, and are refused as CSV', async () => {
    const path = address('balloons', { include: CREW, limit: 'none' });
    const lines = (await service.request('GET', path, undefined, { accept: 'application/x-ndjson' })).text
      .trim()
      .split('\n');
    expect(
      lines.map((line) => (JSON.parse(line) as { related: { crew: { id: string } | null } }).related.crew?.id),
    ).to.deep.equal(['c-1', undefined]);
    const csv = await service.request('GET', path, undefined, { accept: 'text/csv' });
    expect(csv.status).to.equal(400);
    expect(csv.json).to.include({ type: '/problems/bad-query', pointer: '/include' });
  });

  it('are refused where a look-up would read a whole collection, unless that is allowed', async () => {
    const path = address('crews', { include: 'balloons by crewId' });
    const refused = await service.request('GET', path);
    expect(refused.status).to.equal(422);
    expect(refused.json.type).to.equal('/problems/index-missing');
    expect(refused.json.detail).to.include("uproar index create balloons 'crewId'");
    const stream = await service.request('GET', path, undefined, { accept: 'text/event-stream' });
    expect(stream.json.type).to.equal('/problems/index-missing');
    const lax = await TestService.start({ scanIncludes: true });
    try {
      await put(lax, {
        'crews/c-1': {},
        'balloons/b-1': { crewId: 'c-1', n: 2 },
        'balloons/b-2': { crewId: 'c-1', n: 1 },
      });
      const { json } = await lax.request('GET', address('crews', { include: 'balloons by crewId order n' }));
      expect(idsOf(json.documents[0].related.balloons)).to.deep.equal(['b-2', 'b-1']);
      await put(lax, Object.fromEntries(Array.from({ length: 10_001 }, (_, n) => [`balloons/x-${n}`, {}])));
      const costly = await lax.request('GET', address('crews', { include: 'balloons by crewId' }));
      expect(costly.json.type).to.equal('/problems/query-too-costly');
      expect(costly.json.detail).to.include("uproar index create balloons 'crewId'");
    } finally {
      await lax.stop();
    }
  });

  it('are refused where one document brings too many, and come with pauses where all do', async () => {
    await put(service, Object.fromEntries(Array.from({ length: 120 }, (_, n) => [`hubs/h-${n}`, { all: 'h-0' }])));
    await put(
      service,
      Object.fromEntries(Array.from({ length: 120 * 30 }, (_, n) => [`spokes/s-${n}`, { hub: `h-${n % 120}`, n }])),
    );
    await makeIndex(service, 'spokes', 'hub,n');
    const inner = 'hubs via hub { spokes by hub order n limit 30 }';
    const many = await service.request('GET', address('hubs', { include: 'spokes by hub order n limit 30' }));
    expect(many.status).to.equal(200);
    expect(
      (many.json.documents as { related: { spokes: unknown[] } }[]).every(
        ({ related }) => related.spokes.length === 30,
      ),
    ).to.equal(true);
    const deep = await service.request(
      'GET',
      address('hubs', { include: `spokes by hub order n limit 30 { ${inner} }`, limit: '40' }),
    );
    expect(deep.status).to.equal(200);
    await put(
      service,
      Object.fromEntries(Array.from({ length: 11_000 }, (_, n) => [`spokes/x-${n}`, { hub: 'h-0', n }])),
    );
    const one = await service.request('GET', address('hubs', { include: 'spokes by hub order -n' }));
    expect(one.json.type, one.text.slice(0, 300)).to.equal('/problems/query-too-costly');
    expect(one.json.detail).to.match(/would scan more than 10,000|10,000 related documents for one document/);
  });

  it('report errors with their place', async () => {
    const refused = async (include: unknown) => {
      const { status, json } = await service.request('POST', '/v1/query', { from: 'balloons', include });
      expect(status).to.equal(400);
      return `${json.pointer} ${json.detail}`;
    };
    expect(await refused('crews')).to.match(/^\/include\/crews In the include crews: An include needs either "via"/);
    expect(await refused({ crew: { from: 'crews', via: 'crewId', where: 'nam ==' } })).to.match(/^\/include\/crew/);
    expect(await refused({ Crew: { from: 'crews', via: 'crewId' } })).to.match(
      /name of an include has a lower-case letter/,
    );
    expect(await refused({ crew: { from: 'crews', via: 'crewId', many: 3 } })).to.match(/^\/include/);
    expect(await refused({ __proto__: null, x: 7 })).to.match(/^\/include/);
    expect(await refused('{ "crew": ')).to.match(/Expected a collection here/);
  });

  it('are limited to what the caller may see, and hidden ones look like missing ones', async () => {
    await service.setPolicy({
      collections: {
        balloons: { read: true },
        crews: { read: "lead = claim('sub')", conceal: ['phone'] },
        flights: { read: true, conceal: ['balloonId'] },
      },
    });
    const ask = service.as(await makeToken({ sub: 'bo' }));
    const include = `${CREW}; helpers = crews via helpers; flights by balloonId; pads via pad`;
    const { json } = await ask('GET', address('balloons', { include }));
    expect(json.documents[0].related.crew).to.equal(null);
    expect(json.documents[0].related.helpers).to.have.length(1);
    expect(json.documents[0].related.helpers[0].data).to.deep.equal({ name: 'Nook', lead: 'bo' });
    // By a field that is concealed nothing is found.
    expect(json.documents[0].related.flights).to.deep.equal([]);
    const watch = await StreamReader.open(
      `${service.url}${address('balloons', { include: CREW })}`,
      undefined,
      await makeToken({ sub: 'bo' }),
    );
    await until('the result', () => watch.events.length === 1);
    await service.request('PATCH', '/v1/data/crews/c-1', { name: 'Unseen' });
    await service.request('PATCH', '/v1/data/crews/c-1', { lead: 'bo' });
    await until('the crew that can be seen now', () => watch.events.length > 1);
    expect(watch.events[1]!.data.patch).to.have.length(1);
    expect(watch.events[1]!.data.patch[0]).to.deep.include({ path: '/b-1/related/crew' });
    watch.close();
  });
});

describe('live views of related documents', () => {
  let service: TestService;
  beforeEach(async () => {
    service = await TestService.start();
    const about = 'x'.repeat(300);
    await put(service, {
      'crews/c-1': { n: 1, about },
      'balloons/b-1': { crewId: 'c-1', about },
      'balloons/b-2': { crewId: 'c-1', about },
      'balloons/b-3': { about },
    });
    await makeIndex(service, 'flights', 'balloonId,-n');
  });
  afterEach(() => service.stop());

  it('change exactly where the changed document is shown, field by field', async () => {
    const watch = await StreamReader.open(
      `${service.url}${address('balloons', { include: `${CREW}; flights by balloonId order -n limit 2` })}`,
    );
    const other = await StreamReader.open(
      `${service.url}${address('balloons', { where: "meta('id') = 'b-3'", include: CREW })}`,
    );
    await until('the results', () => watch.events.length === 1 && other.events.length === 1);
    expect(WatchResult.safeParse(watch.events[0]!.data).success).to.equal(true);
    const change = async (act: () => Promise<unknown>) => {
      const { length } = watch.events;
      await act();
      await until('a change', () => watch.events.length > length);
      const { data } = watch.events[length]!;
      expect(WatchChange.safeParse(data).success).to.equal(true);
      return (data.patch as { op: string; path: string }[])
        .map(({ op, path }) => `${op} ${path}`)
        .filter((line) => !/version|updated/.test(line));
    };
    expect(await change(() => service.request('PATCH', '/v1/data/crews/c-1', { n: 2 }))).to.deep.equal([
      'replace /b-1/related/crew/data/n',
      'replace /b-2/related/crew/data/n',
    ]);
    expect(await change(() => put(service, { 'flights/f-1': { balloonId: 'b-1', n: 1 } }))).to.deep.equal([
      'add /b-1/related/flights/0',
    ]);
    expect(await change(() => service.request('PATCH', '/v1/data/balloons/b-2', { crewId: 'c-9' }))).to.deep.equal([
      'replace /b-2/data/crewId',
      'replace /b-2/related/crew',
    ]);
    expect(await change(() => service.request('PATCH', '/v1/data/flights/f-1', { balloonId: 'b-2' }))).to.deep.equal([
      'remove /b-1/related/flights/0',
      'add /b-2/related/flights/0',
    ]);
    expect(await change(() => service.request('DELETE', '/v1/data/crews/c-1'))).to.deep.equal([
      'replace /b-1/related/crew',
    ]);
    await service.request('PUT', '/v1/data/crews/c-77', {});
    expect(other.events, 'no other connection received an event').to.have.length(1);
    const { json } = await service.request(
      'GET',
      address('balloons', { include: `${CREW}; flights by balloonId order -n limit 2` }),
    );
    expect(Object.values(watch.state)).to.deep.equal(json.documents);
    watch.close();
    other.close();
  });

  it('resume over a WebSocket with the missed changes, and leave nothing behind', async () => {
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    const query = { from: 'balloons', include: CREW, limit: 'none' };
    const first = (await socket.call('watch', { query })).result;
    expect(first.documents[0].related.crew.data.n).to.equal(1);
    await socket.call('unwatch', { watch: first.watch });
    await service.request('PATCH', '/v1/data/crews/c-1', { n: 5 });
    await service.request('PUT', '/v1/data/crews/c-2', {});
    await service.request('PATCH', '/v1/data/balloons/b-3', { crewId: 'c-2' });
    const again = (await socket.call('watch', { query, resume: first.resume })).result;
    expect(again).not.to.have.property('documents');
    const paths = (again.patch as { path: string }[]).map(({ path }) => path);
    expect(paths).to.include.members(['/b-1/related/crew/data/n', '/b-2/related/crew/data/n', '/b-3/related/crew']);
    socket.socket.terminate();
  });

  it('start with the whole result, also if reading is slow and documents change during it', async () => {
    const documents: Record<string, object> = {};
    for (let n = 0; n < 6000; n++) documents[`balloons/x-${n}`] = { crewId: `c-${n % 300}`, n };
    for (let n = 0; n < 300; n++) documents[`crews/c-${n}`] = { n: 0 };
    await put(service, documents);
    const store = service.client();
    const writing = (async () => {
      for (let n = 0; n < 150; n++) {
        await service.request('PATCH', `/v1/data/crews/c-${n}`, { n: 1 });
        await service.request('PATCH', `/v1/data/balloons/x-${n * 7}`, { crewId: `c-${n}` });
        if (n % 10 === 0) await service.request('DELETE', `/v1/data/balloons/x-${n * 11 + 1}`);
      }
    })();
    const watch = store.collection('balloons').include(CREW).watch();
    const ordered = store.collection('balloons').include(CREW).order('-n').limit(700).watch();
    await writing;
    await until('both are live', () => watch.current.state === 'live' && ordered.current.state === 'live', 120_000);
    const seq = (await service.request('GET', '/v1/data/crews?limit=1')).json.seq as number;
    // A view without changes sends nothing more.
    await service.request('PATCH', '/v1/data/crews/c-0', { last: true });
    await until(
      'both have come to the last change',
      () => watch.current.seq > seq && ordered.current.seq > seq,
      20_000,
    );
    const path = address('balloons', { include: CREW, limit: 'none' });
    const all = (await service.request('GET', path, undefined, { accept: 'application/x-ndjson' })).text
      .trim()
      .split('\n');
    expect(watch.current.documents).to.deep.equal(all.map((line) => JSON.parse(line) as unknown));
    const some = await service.request('GET', address('balloons', { include: CREW, order: '-n', limit: '700' }));
    expect(ordered.current.documents).to.deep.equal(some.json.documents);
  });
});

describe('totals', () => {
  let service: TestService;
  before(async () => {
    service = await TestService.start({ tokens: TOKEN_SETTINGS });
    await put(service, {
      'gates/g-1': { side: 'north', visitors: 10, open: true },
      'gates/g-2': { side: 'river', visitors: 0.1 },
      'gates/g-3': { side: 'north', visitors: 0.2, secret: 1 },
    });
  });
  after(() => service.stop());
  const SUM = { summary: 'count(),sum(visitors)', by: 'side' };

  it('come once in every format', async () => {
    const { json } = await service.request('GET', address('gates', SUM));
    expect(json).to.include({ more: false });
    expect(json.documents).to.deep.equal([
      { id: 'north', data: { side: 'north', 'count()': 2, 'sum(visitors)': 10.2 } },
      { id: 'river', data: { side: 'river', 'count()': 1, 'sum(visitors)': 0.1 } },
    ]);
    expect((await service.request('POST', '/v1/query', { from: 'gates', ...SUM })).json.documents).to.deep.equal(
      json.documents,
    );
    const as = async (accept: string) =>
      (await service.request('GET', address('gates', SUM), undefined, { accept })).text;
    expect(await as('application/x-ndjson')).to.equal(
      (json.documents as object[]).map((one) => JSON.stringify(one) + '\n').join(''),
    );
    expect(await as('text/csv')).to.equal('side,count(),sum(visitors)\nnorth,2,10.2\nriver,1,0.1\n');
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    expect((await socket.call('query', { from: 'gates', ...SUM })).result.documents).to.deep.equal(json.documents);
    socket.socket.terminate();
    const nothing = await service.request('GET', address('nowhere', { summary: 'count(),max(x)' }));
    expect(nothing.json.documents).to.deep.equal([{ id: 'all', data: { 'count()': 0, 'max(x)': null } }]);
  });

  it('are refused with what only documents have, and explained like other queries', async () => {
    const wrong = await service.request('GET', address('gates', { summary: 'count()', limit: '5' }));
    expect(wrong.json).to.include({ type: '/problems/bad-query', pointer: '/limit' });
    const explained = (await service.request('POST', '/v1/explain', { from: 'gates', ...SUM })).json;
    expect(explained).to.include({ documentsRead: 3, documentsReturned: 2 });
    const counted = (await service.request('POST', '/v1/explain', { from: 'gates', summary: 'count()' })).json;
    expect(counted).to.include({ documentsRead: 0, documentsReturned: 1 });
  });

  it('cover only what the caller may see', async () => {
    await service.setPolicy({ collections: { gates: { read: "side = 'north'", conceal: ['secret'] } } });
    const ask = service.as(await makeToken({ sub: 'ada' }));
    const { json } = await ask('GET', address('gates', { summary: 'count(),sum(visitors),max(secret)' }));
    expect(json.documents[0].data).to.deep.equal({ 'count()': 2, 'sum(visitors)': 10.2, 'max(secret)': null });
  });

  it('follow writes, and a client shows them in order', async () => {
    const store = service.client();
    const watch = store.collection('gates').summary('count(),sum(visitors),max(visitors)', 'side').watch();
    await until('it is live', () => watch.current.state === 'live');
    await store.collection('gates').merge('g-2', { visitors: 0.3 });
    await store.collection('gates').put('g-4', { side: 'east', visitors: 7 });
    await store.collection('gates').delete('g-1');
    await store.collection('gates').merge('g-3', { side: 'river' });
    expect(watch.current.documents.map(({ data }) => data)).to.deep.equal([
      { side: 'east', 'count()': 1, 'sum(visitors)': 7, 'max(visitors)': 7 },
      { side: 'river', 'count()': 2, 'sum(visitors)': 0.5, 'max(visitors)': 0.3 },
    ]);
    expect((await store.collection('gates').summary('count()').get())?.data).to.deep.equal({ 'count()': 3 });
    watch.close();
  });

  it('are computed again when all known smallest values have gone', async () => {
    await put(service, Object.fromEntries(Array.from({ length: 3000 }, (_, n) => [`marks/m-${n}`, { n }])));
    const store = service.client();
    const watch = store.collection('marks').summary('min(n),max(n),count()').watch();
    await until('it is live', () => watch.current.state === 'live');
    for (let start = 0; start < 2700; start += 450) {
      await store.commit({ writes: Array.from({ length: 450 }, (_, n) => ({ delete: `marks/m-${start + n}` })) });
      const expected = { 'min(n)': start + 450, 'max(n)': 2999, 'count()': 3000 - start - 450 };
      await until(
        'the least that is left',
        () => JSON.stringify(watch.current.documents[0]!.data) === JSON.stringify(expected),
      );
    }
  });

  it('are refused when there are too many groups', async () => {
    await put(service, Object.fromEntries(Array.from({ length: 10_001 }, (_, n) => [`many/m-${n}`, { n }])));
    const refused = await service.request('GET', address('many', { summary: 'count()', by: 'n' }));
    expect(refused.json.type).to.equal('/problems/query-too-costly');
    const stream = await service.request('GET', address('many', { summary: 'count()', by: 'n' }), undefined, {
      accept: 'text/event-stream',
    });
    expect(stream.json.type).to.equal('/problems/query-too-costly');
  });
});
