import { expect } from 'chai';
import { parse as parseCsv } from 'csv-parse/sync';
import { JournalEvent, Listing } from '@uproar/protocol';
import { JournalRetention, openStore } from '../dist/store/index.js';
import { StreamReader } from '../../../test/event-stream.js';
import { Random } from '../../../test/random.js';
import { modelData, modelQuery } from '../../../test/random-query.js';
import { KEY, temporaryDirectory, TestService, until } from '../../../test/service.js';

interface Described {
  id: string;
  data: Record<string, unknown>;
}

describe('queries over HTTP', () => {
  let service: TestService;
  const balloons = Array.from({ length: 60 }, (_, n) => ({
    id: `bl-${n}`,
    data: {
      name: `Balloon "${n}", é`,
      status: n % 3 === 0 ? 'aloft' : 'packed',
      altitude: (n * 37) % 50,
      pilot: { name: `p-${n % 7}` },
      ...(n % 10 === 0 ? { rare: [n] } : {}),
    },
  }));
  before(async () => {
    service = await TestService.start();
    await service.client().commit({ writes: balloons.map(({ id, data }) => ({ put: `balloons/${id}`, data })) });
  });
  after(() => service.stop());

  const where = "status = 'aloft' AND altitude >= 10";
  const expected = balloons
    .filter(({ data }) => data.status === 'aloft' && data.altitude >= 10)
    .sort((a, b) => b.data.altitude - a.data.altitude || (a.id < b.id ? -1 : 1));
  const address = (parameters: Record<string, string>) => `/v1/data/balloons?${new URLSearchParams(parameters)}`;
  const ids = (answer: { json: { documents: Described[] } }) => answer.json.documents.map(({ id }) => id);

  it('answer the same in the address, in a body, in CQL2 JSON and over the WebSocket', async () => {
    const wanted = expected.slice(0, 5).map(({ id }) => id);
    const form = { from: 'balloons', where, order: '-altitude', limit: 5 };
    const inAddress = await service.request('GET', address({ where, order: '-altitude', limit: '5' }));
    expect(Listing.safeParse(inAddress.json).success).to.equal(true);
    expect(ids(inAddress)).to.deep.equal(wanted);
    expect(ids(await service.request('POST', '/v1/query', form))).to.deep.equal(wanted);
    const json = {
      op: 'and',
      args: [
        { op: '=', args: [{ property: 'status' }, 'aloft'] },
        { op: '>=', args: [{ property: 'altitude' }, 10] },
      ],
    };
    expect(ids(await service.request('POST', '/v1/query', { ...form, where: json }))).to.deep.equal(wanted);
    const { documents } = await service.client().collection('balloons').list({ where, order: '-altitude', limit: 5 });
    expect(documents.map(({ id }) => id)).to.deep.equal(wanted);
  });

  it('go on behind a cursor, in any order, each document once', async () => {
    const found: string[] = [];
    for (let path: string | undefined = address({ where, order: '-altitude', limit: '4' }); path;) {
      const answer = await service.request('GET', path);
      found.push(...ids(answer));
      path = /^<([^>]+)>; rel="next"$/.exec(answer.headers.get('link') ?? '')?.[1];
    }
    expect(found).to.deep.equal(expected.map(({ id }) => id));
    const { next } = (await service.request('GET', address({ order: '-altitude', limit: '4' }))).json;
    expect((await service.request('GET', address({ order: 'altitude', after: next as string }))).json.type).to.equal(
      '/problems/bad-cursor',
    );
  });

  it('come as NDJSON and CSV too, whole and in the same order', async () => {
    const lines = await service.request('GET', address({ where, order: '-altitude', limit: 'none' }), undefined, {
      accept: 'application/x-ndjson',
    });
    expect(lines.headers.get('content-type')).to.include('application/x-ndjson');
    expect(
      lines.text
        .trim()
        .split('\n')
        .map((line) => (JSON.parse(line) as Described).id),
    ).to.deep.equal(expected.map(({ id }) => id));
    const csv = await service.request(
      'POST',
      '/v1/query',
      { from: 'balloons', where, order: '-altitude', limit: 'none' },
      { accept: 'text/csv' },
    );
    const rows = parseCsv(csv.text, { columns: true }) as Record<string, string>[];
    expect(rows.map(({ id, name }) => [id, name])).to.deep.equal(expected.map(({ id, data }) => [id, data.name]));
    expect(rows.find(({ id }) => id === 'bl-30')?.rare).to.equal('[30]');
    const some = await service.request('GET', address({ fields: 'pilot.name,altitude', limit: '1' }), undefined, {
      accept: 'text/csv',
    });
    expect(some.text).to.equal('id,altitude,pilot.name\nbl-0,0,p-0\n');
    expect((await service.request('GET', address({ limit: 'none' }))).json.type).to.equal('/problems/bad-query');
  });

  it('say where a condition is wrong', async () => {
    const { json } = await service.request('GET', address({ where: "status = 'aloft' ADN altitude > 3" }));
    expect(json).to.deep.include({
      type: '/problems/bad-query',
      position: 17,
      expected: ['AND', 'OR', 'the end of the condition'],
    });
    const body = await service.request('POST', '/v1/query', {
      from: 'balloons',
      where: { op: 'and', args: [{ property: 'a' }] },
    });
    expect(body.json).to.include({ type: '/problems/bad-query', pointer: '/args/0' });
    const watch = await service.request('GET', address({ where: '(' }), undefined, { accept: 'text/event-stream' });
    expect([watch.status, watch.json.type]).to.deep.equal([400, '/problems/bad-query']);
  });

  it('are explained: index, cost, matching, impossible parts and advice', async () => {
    const form = { from: 'balloons', where: "status = 'aloft' AND altitude >= 10", order: '-altitude', limit: 2 };
    const explain = async (query: unknown) => (await service.request('POST', '/v1/explain', query)).json;
    expect(await explain(form)).to.deep.include({
      scan: 'full',
      ordered: false,
      documentsRead: 60,
      documentsReturned: 2,
      more: true,
      warnings: [],
    });
    const created = await service.request('POST', '/v1/indexes', {
      collection: 'balloons',
      fields: 'status,-altitude',
    });
    expect(created.json).to.deep.include({ collection: 'balloons', fields: 'status,-altitude', ready: true });
    expect(
      (await service.request('POST', '/v1/indexes', { collection: 'balloons', fields: 'status,-altitude' })).json.id,
      'one is enough',
    ).to.equal(created.json.id);
    const found = await explain(form);
    expect(found).to.deep.include({
      scan: 'index',
      index: 'status,-altitude',
      ordered: true,
      documentsRead: 3,
      documentsReturned: 2,
    });
    expect(found.matchedBy).to.deep.equal({ kind: 'values', requirements: ["status = 'aloft'"] });
    expect((await explain({ from: 'balloons', where: "altitude = 'high'" })).warnings[0]).to.include('never be true');
    expect((await explain({ from: 'balloons', where: 'altitud > 3 AND pilot.nmae = 1' })).warnings).to.satisfy(
      (warnings: string[]) => warnings[0]!.includes('"altitude"') && warnings[1]!.includes('"pilot.name"'),
    );
    const misspelt = {
      from: 'balloons',
      order: 'altitud',
      fields: 'nmae',
      include: 'x = balons via crw; ballons via pilot.nmae fields altitued',
    };
    const { warnings } = await explain({ ...misspelt, where: "status = 'aloft'" });
    for (const near of ['altitude', 'name', 'pilot.name', 'balloons'])
      expect(warnings.join('\n'), near).to.include(`"${near}"`);
    expect((await explain({ ...form, fields: 'name' })).warnings, 'fields that are not shown are there').to.deep.equal(
      [],
    );
    expect((await explain({ from: 'balloons', summary: 'sum(altitud)', by: 'sttus' })).warnings).to.have.length(2);
    expect((await service.request('GET', '/v1/indexes')).json.indexes).to.have.length(1);
    await service.restart();
    expect((await explain(form)).index, 'it is there after a restart').to.equal('status,-altitude');
    expect((await service.request('DELETE', `/v1/indexes/${created.json.id}`)).status).to.equal(204);
    expect((await service.request('DELETE', `/v1/indexes/${created.json.id}`)).json.type).to.equal(
      '/problems/no-such-index',
    );
    expect((await explain(form)).scan).to.equal('full');
    expect(
      (await service.request('POST', '/v1/indexes', { collection: 'balloons', fields: 'a,-a' })).json.type,
    ).to.equal('/problems/bad-query');
  });

  it('suggest similar names for misspelt ones', async () => {
    const notes = async (parts: Record<string, string>) =>
      (await service.request('GET', address(parts))).json.notes?.join('\n');
    expect(await notes({ where: 'altitud > 3' })).to.match(/None of the \d+ .* altitud. Did you mean "altitude"\?/);
    expect(await notes({ summary: 'max(altitud)', by: 'statsu' })).to.match(/"altitude"[^]*"status"/);
    expect(await notes({ include: 'b = balons via name', limit: '1' })).to.include(
      '"balons" does not exist. Did you mean "balloons"?',
    );
    expect(await notes({ where: 'altitude >= 0', order: 'name', limit: '1' })).to.equal(undefined);
    expect(await notes({ where: 'somethingElse > 3' }), 'a field that is rare').to.equal(undefined);
    // A key for some collections sees no others.
    await service.request('PUT', '/v1/data/balloon-secrets/s-1', { passphrase: 'x', name: 'y' });
    const { json: made } = await service.request('POST', '/v1/keys', {
      name: 'part',
      scope: 'read',
      collections: ['balloons'],
    });
    const lesser = service.as((made as { key: string }).key);
    const include = 's = balloon-secrets via name order pasphrase; t = balloon-secret via nmae';
    expect(await notes({ include, limit: '1' })).to.match(/passphrase[^]*balloon-secrets/);
    for (const [path, asked] of [
      ['/v1/query', { from: 'balloons', include, limit: 1 }],
      ['/v1/explain', { from: 'balloons', include }],
    ] as const) {
      const { text } = await lesser('POST', path, asked);
      expect(text, 'its own field').to.include('Did you mean \\"name\\"');
      expect(text).not.to.match(/passphrase|Did you mean \\"balloon-secrets/);
    }
    expect((await lesser('GET', '/v1/data/balloon')).text).not.to.include('secrets');
    await service.request('DELETE', '/v1/data/balloon-secrets/s-1');
    const refused = await service.request('GET', address({ include: 'balloons by statsu' }));
    expect(refused.json.type).to.equal('/problems/index-missing');
    expect(refused.json.detail).to.include('Did you mean "status"?');
    const total = await service.request('GET', address({ summary: 'median(altitude)' }));
    expect(total.json.detail).to.include('Expected: count(), sum(field)');
  });

  it('can be watched with order and limit: an entering document pushes another one out', async () => {
    const watch = await StreamReader.open(
      service.url + address({ where: "status = 'aloft'", order: '-altitude', limit: '2', fields: 'altitude' }),
    );
    await until('the result', () => watch.events.length === 1);
    const before = Object.keys(watch.state);
    expect(watch.events[0]!.data).to.include({ more: true });
    await service.request('PUT', '/v1/data/balloons/bl-new', { status: 'aloft', altitude: 1000, other: 1 });
    await until('it is in', () => 'bl-new' in watch.state);
    expect(watch.state['bl-new']).to.deep.equal({ id: 'bl-new', data: { altitude: 1000 } });
    expect(Object.keys(watch.state)).to.have.length(2).and.to.include(before[0]!);
    const count = watch.events.length;
    await service.request('PATCH', '/v1/data/balloons/bl-new', { other: 2 });
    await service.request('PATCH', '/v1/data/balloons/bl-new', { altitude: 999 });
    await until('the change', () => watch.events.length > count);
    expect(watch.events, 'a field that is not shown raises nothing').to.have.length(count + 1);
    await service.request('DELETE', '/v1/data/balloons/bl-new');
    await until('it is out', () => !('bl-new' in watch.state));
    expect(Object.keys(watch.state).sort()).to.deep.equal([...before].sort());
    watch.close();
  });

  it('find the same with and without indexes', async function () {
    const random = new Random(91);
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const author = { kind: 'key' as const, name: 'test' };
    for (let n = 0; n < 300; n++) {
      await store.log.append({
        timeMs: n,
        author,
        writes: [{ kind: 'put', collection: 'model', id: `m-${n}`, data: modelData(random) }],
      });
    }
    const { prepareWireQuery } = await import('../dist/reading/prepare-query.js');
    const queries = Array.from({ length: 250 }, () => modelQuery(random, 'model').form);
    const answers = async () => {
      const all: string[] = [];
      for (const form of queries) {
        const reading = await store.reader.read(prepareWireQuery({ ...form, limit: 50 } as never, false), 50);
        all.push(`${reading.more} ${reading.found.map(({ document }) => document.id).join(' ')}`);
      }
      return all;
    };
    const without = await answers();
    const order = (...fields: string[]) =>
      fields.map((field) => ({ path: [field.replace('-', '')], meta: false, descending: field.startsWith('-') }));
    for (const terms of [
      order('status', '-altitude'),
      order('altitude'),
      order('-altitude'),
      order('open', 'altitude'),
      order('-status'),
    ]) {
      await store.indexes.create('model', terms, 0);
    }
    const used = queries.filter(
      (form) => store.reader.plan(prepareWireQuery(form as never, true))?.scan === 'index',
    ).length;
    expect(used, 'many of them use an index').to.be.above(60);
    expect(await answers()).to.deep.equal(without);
    store.close();
    remove();
  });
});

describe('the journal', () => {
  let service: TestService;
  before(async () => (service = await TestService.start({ heartbeatMs: 100 })));
  after(() => service.stop());

  it('returns what changed, by whom, from which value to which', async () => {
    await service.request('PUT', '/v1/data/pads/p-1', { claimedBy: 'c-1' });
    await service.request('PATCH', '/v1/data/pads/p-1', { claimedBy: 'c-2' });
    await service.request('PUT', '/v1/data/gates/g-1', { visitors: 1 });
    await service.request('DELETE', '/v1/data/pads/p-1');
    const { json } = await service.request('GET', '/v1/journal');
    const events = json.events as JournalEvent[];
    for (const event of events) expect(JournalEvent.safeParse(event).success).to.equal(true);
    expect(events.map(({ type, subject, seq }) => `${seq} ${type.split('.')[2]} ${subject}`)).to.deep.equal([
      '1 created pads/p-1',
      '2 updated pads/p-1',
      '3 created gates/g-1',
      '4 deleted pads/p-1',
    ]);
    expect(events[1]!.data).to.deep.nested.include({ 'before.data.claimedBy': 'c-1', 'after.data.claimedBy': 'c-2' });
    expect(events[3]!.data.after).to.equal(null);
    expect(events[0]!.identity).to.equal('key:environment');
    expect(json).to.include({ seq: 4, more: false, first: 1 });

    const some = (
      await service.request(
        'GET',
        `/v1/journal?${new URLSearchParams({ after: '1', collection: 'pads', where: "claimedBy = 'c-1'" })}`,
      )
    ).json;
    expect(
      (some.events as JournalEvent[]).map(({ seq }) => seq),
      'before or after meets the condition',
    ).to.deep.equal([2]);
    const lines = await service.request('GET', '/v1/journal?after=2', undefined, { accept: 'application/x-ndjson' });
    expect(lines.text.trim().split('\n')).to.have.length(2);
    expect((await service.request('GET', '/v1/journal?where=%28')).json.type).to.equal('/problems/bad-query');
    expect((await service.request('GET', '/v1/journal?since=1')).json.detail).to.include('after');
  });

  it('is narrowed to what an identity changed, as a page and as a stream', async () => {
    const { json: made } = await service.request('POST', '/v1/keys', { name: 'tower', scope: 'write' });
    const tower = service.as(made.key as string);
    const start = (await service.request('GET', '/v1/journal?before=now&limit=1')).json.events[0]?.seq ?? 0;
    await tower('PUT', '/v1/data/pads/p-7', { claimedBy: 'c-7' });
    await service.request('PUT', '/v1/data/pads/p-8', { claimedBy: 'c-8' });
    await tower('PUT', '/v1/data/pads/p-9', { claimedBy: 'c-9' });
    const subjects = async (query: string, accept = 'application/json') => {
      const { json, text } = await service.request('GET', `/v1/journal?${query}`, undefined, { accept });
      const events =
        json?.events ??
        text
          .trim()
          .split('\n')
          .map((line) => JSON.parse(line) as unknown);
      return (events as JournalEvent[]).map(({ subject }) => subject);
    };
    expect(await subjects('before=now&identity=key:tower')).to.deep.equal(['pads/p-9', 'pads/p-7']);
    const ndjson = 'application/x-ndjson';
    expect(await subjects(`after=${start}&identity=key:tower`, ndjson)).to.deep.equal(['pads/p-7', 'pads/p-9']);
    expect(await subjects(`after=${start}&identity=key:environment`)).to.deep.equal(['pads/p-8']);
    expect(await subjects('identity=key:nobody')).to.deep.equal([]);
  });

  it('can be followed live, and resumed behind the last event', async () => {
    const read = async (lastEventId?: string, count = 1) => {
      const abort = new AbortController();
      const response = await fetch(`${service.url}/v1/journal?collection=live`, {
        headers: {
          authorization: `Bearer ${KEY}`,
          accept: 'text/event-stream',
          ...(lastEventId === undefined ? {} : { 'last-event-id': lastEventId }),
        },
        signal: abort.signal,
      });
      let text = '';
      const ids = () => [...text.matchAll(/^event: .*\nid: (\d+)$/gm)].map(([, id]) => id!);
      void (async () => {
        for await (const chunk of response.body!) text += new TextDecoder().decode(chunk);
      })().catch(() => undefined);
      return { ids, close: () => abort.abort(), done: () => until('the events', () => ids().length >= count) };
    };
    const first = await read();
    await service.request('PUT', '/v1/data/live/a', {});
    await first.done();
    const [seen] = first.ids();
    first.close();
    await service.request('PUT', '/v1/data/other/a', {});
    await service.request('PUT', '/v1/data/live/b', {});
    const second = await read(seen);
    await second.done();
    expect(second.ids().map((id) => Number(id) - Number(seen))).to.deep.equal([2]);
    second.close();
  });

  it('is truncated by age and by size in small steps, reports this, and resets watches that come too late', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const author = { kind: 'key' as const, name: 'test' };
    for (let n = 1; n <= 500; n++) {
      await store.log.append({
        timeMs: n * 1000,
        author,
        writes: [{ kind: 'put', collection: 'a', id: `d-${n % 5}`, data: { n, text: 'x'.repeat(100) } }],
      });
    }
    const byAge = new JournalRetention(store.reads, store.log, store.journal, { maxAgeMs: 100_000 });
    expect(await byAge.step(500_000)).to.equal(true);
    expect(store.journal.bounds().first, 'not all at once').to.equal(201);
    while (await byAge.step(500_000));
    expect(store.journal.bounds()).to.deep.equal({ first: 400, last: 500 });
    const bySize = new JournalRetention(store.reads, store.log, store.journal, { maxSizeBytes: 5000 });
    while (await bySize.step(0));
    const { first } = store.journal.bounds();
    expect(first).to.be.within(475, 490);
    expect([store.journal.reachesBackTo(first - 1), store.journal.reachesBackTo(first - 2)]).to.deep.equal([
      true,
      false,
    ]);
    const everything = new JournalRetention(store.reads, store.log, store.journal, { maxAgeMs: 0 });
    while (await everything.step(Number.MAX_SAFE_INTEGER));
    expect(store.journal.bounds(), 'the newest always stays').to.deep.equal({ first: 500, last: 500 });
    store.close();

    const own = await TestService.start({ directory: path });
    const answer = await own.request('GET', '/v1/journal?after=3');
    expect([answer.status, answer.json.type]).to.deep.equal([410, '/problems/journal-truncated']);
    await own.stop();
    remove();
  });
});
