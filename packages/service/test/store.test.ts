import { expect } from 'chai';
import { parseOrder, prepareQuery, writeCursor, type Document, type Write } from '@uproar/core';
import { ProblemError } from '@uproar/protocol';
import { openStore, type Store } from '@uproar/service';
import { adviseIndex, planQuery } from '../dist/store/plan.js';
import { Random } from '../../../test/random.js';
import { temporaryDirectory } from '../../../test/service.js';

const author = { kind: 'key' as const, name: 'test' };

describe('the store', () => {
  let files: ReturnType<typeof temporaryDirectory>;
  let store: Store;
  beforeEach(() => {
    files = temporaryDirectory();
    store = openStore(files.path);
  });
  afterEach(() => {
    store.close();
    files.remove();
  });

  const put = (id: string, data: Document['data'], collection = 'a'): Write => ({ kind: 'put', collection, id, data });
  const append = (...writes: Write[]) => store.log.append({ timeMs: 1000, author, writes });

  it('writes commits that arrive together in one transaction, in order, each evaluated on the result of those before', async () => {
    let groups = 0;
    store.log.onApplied((group) => {
      groups++;
      expect(group.map(({ seq }) => seq)).to.deep.equal([1, 2, 4 - 1]);
    });
    const outcomes = await Promise.all([
      append(put('x', { n: 1 })),
      append({ kind: 'merge', collection: 'a', id: 'x', data: { m: 2 }, condition: { versionIn: [1] } }),
      append(put('y', {}), { kind: 'create', collection: 'a', id: 'x', data: {} }),
      append({ kind: 'delete', collection: 'a', id: 'x', condition: { versionIn: [2] } }),
    ]);
    expect(groups).to.equal(1);
    expect(
      outcomes.map((outcome) =>
        'applied' in outcome ? outcome.applied.seq : 'refused' in outcome && outcome.refused.kind,
      ),
    ).to.deep.equal([1, 2, 'document-exists', 3]);
    expect(store.collections.get('a')).to.include({ documents: 0, sizeBytes: 0, version: 3 });
    expect(store.documents.get(store.collections.get('a')!.number, 'y'), 'nothing of a refused commit').to.equal(
      undefined,
    );
  });

  it('turns commits away when too many are waiting, and keeps those it took', async () => {
    store.close();
    store = openStore(files.path, { waiting: { commits: 5 } });
    const outcomes = await Promise.allSettled(Array.from({ length: 9 }, (_, n) => append(put(`d-${n}`, {}))));
    const refused = outcomes.filter((outcome) => outcome.status === 'rejected');
    expect(refused).to.have.length(4);
    expect((refused[0] as PromiseRejectedResult).reason).to.be.instanceOf(ProblemError);
    expect((refused[0] as { reason: ProblemError }).reason.problem.status).to.equal(503);
    expect(store.collections.get('a')!.documents).to.equal(5);
  });

  it('computes the net difference since any seq, however often a document changed in between', async () => {
    const random = new Random(111);
    const states: Map<string, Document>[] = [new Map()];
    for (let step = 0; step < 150; step++) {
      const id = `d-${random.integer(0, 9)}`;
      const last = states.at(-1)!;
      const write: Write =
        last.has(id) && random.chance(0.3) ? { kind: 'delete', collection: 'a', id } : put(id, { n: step });
      const outcome = await append(write, put('other', { step }, 'b'));
      const next = new Map(last);
      const after = 'applied' in outcome ? outcome.applied.changes[0]!.after : undefined;
      if (after) next.set(id, after);
      else next.delete(id);
      states.push(next);
    }
    const number = store.collections.get('a')!.number;
    const now = states.at(-1)!;
    for (let seq = 0; seq < states.length; seq++) {
      const then = new Map(states[seq]);
      for (const { id, before, after } of store.journal.netChangesAfter(seq, number)) {
        expect(before, `${id} as it was at ${seq}`).to.deep.equal(states[seq]!.get(id));
        if (after) then.set(id, after);
        else then.delete(id);
      }
      expect(new Map([...then].sort())).to.deep.equal(new Map([...now].sort()));
    }
    expect(store.journal.after(10, 3).map(({ seq, changes }) => [seq, changes.length])).to.deep.equal([
      [11, 2],
      [12, 2],
      [13, 2],
    ]);
  });

  it('has the same after it was closed and opened', async () => {
    await store.indexes.create('a', parseOrder('n'), 0);
    await append(put('x', { n: 1 }), put('y', { text: '\u0000é\u{1F388}' }));
    await append({ kind: 'delete', collection: 'a', id: 'x' });
    const before = {
      id: store.id,
      seq: store.log.seq,
      collections: store.collections.list(),
      indexes: store.indexes.list(),
      entries: store.journal.after(0, 10),
    };
    store.close();
    store = openStore(files.path);
    expect({
      id: store.id,
      seq: store.log.seq,
      collections: store.collections.list(),
      indexes: store.indexes.list(),
      entries: store.journal.after(0, 10),
    }).to.deep.equal(before);
  });

  it('fills an index while documents are written, and misses none', async () => {
    for (let part = 0; part < 10; part++)
      await append(...Array.from({ length: 250 }, (_, n) => put(`d-${part * 250 + n}`, { n: part * 250 + n })));
    const filling = store.indexes.create('a', parseOrder('n'), 0);
    for (let n = 0; n < 40; n++) {
      await append(put(`d-${n * 60}`, { n: -n }), put(`new-${n}`, { n: 100_000 + n }), {
        kind: 'delete',
        collection: 'a',
        id: `d-${n * 60 + 1}`,
      });
    }
    await filling;
    const query = prepareQuery({ from: 'a', order: 'n', limit: 10_000 });
    expect(store.reader.plan(query)).to.include({ scan: 'index', ordered: true });
    const { found } = await store.reader.read(query, 10_000);
    expect(found).to.have.length(2500);
    expect(found[0]!.document.data.n).to.equal(-39);
    expect(found.at(-1)!.document.data.n).to.equal(100_039);
    const numbers = found.map(({ document }) => Number(document.data.n));
    expect(numbers).to.deep.equal([...numbers].sort((a, b) => a - b));
  });

  it('finds with an index that decides what the condition alone would find', async () => {
    const random = new Random(55);
    const value = () =>
      random.pick([1, 2, 2.5, -3, 0, 'a', 'ab', 'b', '', '\u0000', '\u{1F388}', true, false, null, [1], { x: 1 }]);
    const documents = Array.from({ length: 300 }, (_, n) => ({
      id: `d-${n}`,
      data: JSON.parse(
        JSON.stringify({
          a: random.chance(0.9) ? value() : undefined,
          b: random.chance(0.9) ? value() : undefined,
          n: random.chance(0.8) ? { x: value() } : value(),
        }),
      ) as Document['data'],
    }));
    await append(...documents.map(({ id, data }) => put(id, data)));
    for (const fields of ['a,-b', 'b', 'n.x,a']) await store.indexes.create('a', parseOrder(fields), 0);
    const literal = () => random.pick(['1', '2', '2.5', '-3', "'a'", "'ab'", "'b'", "''", "'\u{1F388}'", 'TRUE']);
    const comparison = (): string => {
      const field = random.pick(['a', 'b', 'n.x']);
      if (random.chance(0.2)) return `${field} BETWEEN ${random.pick(['-3 AND 2', '1 AND 1', "'a' AND 'b'"])}`;
      if (random.chance(0.2)) return `${field} IN (${literal()}, ${literal()})`;
      if (random.chance(0.15)) return random.pick([`NOT ${field} = 1`, `${field} IS NULL`, `${field} LIKE 'a%'`]);
      const operator = random.pick(['=', '=', '<', '>', '<=', '>=', '<>']);
      return random.chance(0.2) ? `${literal()} ${operator} ${field}` : `${field} ${operator} ${literal()}`;
    };
    let decided = 0;
    for (let round = 0; round < 600; round++) {
      const where = Array.from({ length: random.integer(1, 3) }, comparison).join(
        random.chance(0.9) ? ' AND ' : ' OR ',
      );
      const query = prepareQuery({ from: 'a', where, order: random.pick([undefined, '-b', 'a']), limit: 1000 });
      if (store.reader.plan(query)!.decided) decided++;
      const { found } = await store.reader.read(query, 1000);
      const expected = documents.filter(
        ({ id, data }) => query.matches({ document: { id, version: 1, created: '', updated: '', data } }) === true,
      );
      const ids = found.map(({ stored }) => stored.id);
      expect(ids.sort(), where).to.deep.equal(expected.map(({ id }) => id).sort());
    }
    expect(decided).to.be.greaterThan(100);
  });

  it('reads at one state, also if it takes long and documents change', async () => {
    // More than is kept while it is sorted, so that some documents are read again.
    const text = 'x'.repeat(4000);
    for (let part = 0; part < 12; part++)
      await append(...Array.from({ length: 500 }, (_, n) => put(`d-${part * 500 + n}`, { round: 0, text })));
    const query = prepareQuery({ from: 'a', order: '-text', limit: 'none' });
    const rounds = new Set<unknown>();
    let count = 0;
    for await (const { document } of store.reader.stream(query)) {
      rounds.add(document.data.round);
      if (count++ % 1500 === 0)
        await append(...Array.from({ length: 500 }, (_, n) => put(`d-${n * 10}`, { round: count, text: 'x' })));
    }
    expect(count).to.equal(6000);
    expect([...rounds]).to.deep.equal([0]);
  });
});

describe('choosing how to find the documents of a query', () => {
  const indexes = ['status,-altitude', 'altitude', "crewId,status,meta('updated')"].map((fields, number) => ({
    number,
    collection: 1,
    fields,
    terms: parseOrder(fields),
    ready: true,
    created: 0,
  }));
  const plan = (where: string | undefined, order?: string, limit: number | 'none' = 10) => {
    const { scan, index, ordered, searchedBy } = planQuery(
      prepareQuery({ from: 'a', where, order, limit }),
      1,
      indexes,
    );
    return [scan === 'index' ? index!.fields : scan, ordered ? 'in order' : 'to be sorted', ...searchedBy].join(', ');
  };

  it('takes the index that fixes most, and its order where that is the one wanted', () => {
    expect(plan("status = 'aloft'", '-altitude')).to.equal('status,-altitude, in order, status =');
    expect(plan("status = 'aloft' AND altitude > 3", '-altitude')).to.equal(
      'status,-altitude, in order, status =, altitude range',
    );
    expect(plan("status = 'aloft' AND altitude > 3", 'name')).to.equal(
      'status,-altitude, to be sorted, status =, altitude range',
    );
    expect(plan("status IN ('aloft', 'packed')", '-altitude')).to.equal('status,-altitude, to be sorted, status IN');
    expect(plan("crewId = 'c' AND status = 'x'", "meta('updated')")).to.equal(
      "crewId,status,meta('updated'), in order, crewId =, status =",
    );
    expect(plan('altitude BETWEEN 1 AND 2', 'altitude')).to.equal('altitude, in order, altitude range');
    expect(plan(undefined, '-altitude')).to.equal('altitude, in order');
    expect(plan("meta('id') = 'x' AND status = 'aloft'")).to.equal('document, in order, id');
  });

  it('goes through the collection where no index helps', () => {
    expect(plan("name = 'x'")).to.equal('full, in order');
    expect(plan("status = 'aloft' OR altitude = 1")).to.equal('full, in order');
    expect(plan(undefined, 'name')).to.equal('full, to be sorted');
    expect(plan(undefined, '-altitude', 'none'), 'all of it anyway').to.equal('full, to be sorted');
    expect(plan('altitude <> 1', "-meta('id')")).to.equal('full, in order');
  });

  it('knows when an index decides, so that no document needs to be looked at', () => {
    const decides = (where: string, after?: string) =>
      planQuery(prepareQuery({ from: 'a', where, order: '-altitude', after, limit: 10 }), 1, indexes).decided;
    expect(decides("status = 'aloft'")).to.equal(true);
    expect(decides("status = 'aloft' AND altitude > 3")).to.equal(true);
    expect(decides("status = 'aloft' AND altitude BETWEEN 3 AND 4")).to.equal(true);
    expect(decides("status IN ('aloft', 'packed')")).to.equal(true);
    expect(decides("status = 'aloft' AND name = 'x'")).to.equal(false);
    expect(decides("status = 'aloft' AND status = 'packed'")).to.equal(false);
    expect(decides("status = 'aloft' AND altitude > 3 AND altitude < 'x'")).to.equal(false);
    expect(decides("status = 'aloft' AND altitude <> 3")).to.equal(false);
    expect(decides("status = 'aloft' AND NOT altitude = 3")).to.equal(false);
    expect(decides("status LIKE 'al%'")).to.equal(false);
    const document = { id: 'x', version: 1, created: '', updated: '', data: { altitude: 3 } };
    const behind = writeCursor(document, parseOrder('-altitude'));
    expect(decides("status = 'aloft'", behind), 'behind a cursor').to.equal(false);
  });

  it('advises the index that would help most', () => {
    const advise = (where: string, order?: string) => adviseIndex(prepareQuery({ from: 'a', where, order }));
    expect(advise("a = 1 AND b > 2 AND c = 'x'", '-d,e')).to.equal('a,c,-d,e');
    expect(advise('a = 1 AND b > 2')).to.equal('a,b');
    expect(advise("a.b = 1 AND meta('id') > 'x'")).to.equal('a.b');
    expect(advise('a <> 1')).to.equal(undefined);
  });
});
