import { expect } from 'chai';
import {
  ExactSum,
  Extremes,
  parseIncludes,
  parseSummary,
  prepareQuery,
  QueryError,
  SummaryState,
  type Document,
} from '@uproar/core';
import { Random } from '../../../test/random.js';

describe('a sum that is exact', () => {
  it('is that of whole numbers of any size, with fractions as they are', () => {
    // Each number is a whole number of the smallest unit there is, so a plain sum in BigInt knows the truth.
    const unit = (value: number): bigint => {
      const exponent = Math.max(-1074, Math.floor(Math.log2(Math.abs(value) || 1)) - 54);
      let scaled = value;
      for (let left = -exponent; left > 0; left -= 500) scaled *= 2 ** Math.min(left, 500);
      for (let left = exponent; left > 0; left -= 500) scaled /= 2 ** Math.min(left, 500);
      return BigInt(scaled) << BigInt(exponent + 1100);
    };
    for (let seed = 1; seed <= 20; seed++) {
      const random = new Random(seed);
      const sum = new ExactSum();
      const inside: number[] = [];
      let truth = 0n;
      for (let step = 0; step < 200; step++) {
        if (inside.length > 0 && random.chance(0.4)) {
          const value = inside.splice(random.integer(0, inside.length - 1), 1)[0]!;
          sum.subtract(value);
          truth -= unit(value);
        } else {
          const value = random.pick([
            random.integer(-1000, 1000),
            random.next() * 10 ** random.integer(-300, 300),
            -random.next(),
            Number.MAX_SAFE_INTEGER,
            0.1,
            5e-324,
            1e308,
          ]);
          inside.push(value);
          sum.add(value);
          truth += unit(value);
        }
        // The nearest number is no further from the truth than those on both sides of it.
        const { value } = sum;
        if (!Number.isFinite(value)) continue;
        const away = (other: number) => {
          const distance = unit(other) - truth;
          return distance < 0n ? -distance : distance;
        };
        const step52 = Math.max(Math.abs(value) * 2 ** -52, 5e-324);
        for (const other of [value + step52, value - step52]) {
          if (Number.isFinite(other))
            expect(away(value) <= away(other), `seed ${seed}: ${value} or ${other}`).to.equal(true);
        }
      }
      for (const value of inside) sum.subtract(value);
      expect(sum.value, `seed ${seed}: nothing is left behind`).to.equal(0);
    }
  });

  it('comes back from beyond the largest number', () => {
    const sum = new ExactSum();
    for (const value of [1e308, 1e308, 1e308, 0.25]) sum.add(value);
    expect(sum.value).to.equal(Infinity);
    for (const value of [1e308, 1e308, 1e308]) sum.subtract(value);
    expect(sum.value).to.equal(0.25);
  });

  it('rounds once, where a running sum would have drifted', () => {
    const sum = new ExactSum();
    let running = 0;
    for (let n = 0; n < 10_000; n++) {
      sum.add(0.1);
      running += 0.1;
    }
    expect(running).not.to.equal(1000);
    expect(sum.value).to.equal(1000);
  });
});

describe('the least and the greatest of values that come and go', () => {
  it('are known without all values at hand, until the kept ones are gone', () => {
    const random = new Random(5);
    for (const which of ['min', 'max'] as const) {
      let extremes = new Extremes(which);
      const inside = new Map<number, number>();
      const refill = () => {
        extremes = new Extremes(which);
        for (const [value, count] of inside) for (let n = 0; n < count; n++) extremes.add(value);
      };
      let refills = 0;
      for (let step = 0; step < 12_000; step++) {
        const growing = step < 5000;
        const value = random.integer(0, 20_000);
        if (growing || random.chance(0.2)) {
          inside.set(value, (inside.get(value) ?? 0) + 1);
          extremes.add(value);
        } else {
          const first = extremes.first as number;
          const left = inside.get(first)! - 1;
          if (left > 0) inside.set(first, left);
          else inside.delete(first);
          extremes.remove(first);
        }
        if (extremes.exhausted) {
          refills++;
          refill();
        }
        if (step % 50 === 0) {
          const expected = [...inside.keys()].reduce((best, next) =>
            (which === 'min' ? Math.min : Math.max)(best, next),
          );
          expect(extremes.first, `${which}, step ${step}`).to.equal(expected);
        }
      }
      expect(refills, 'refilled now and then, not each time').to.be.within(1, 8);
    }
  });
});

describe('summaries', () => {
  const document = (id: string, data: Document['data']) => ({ id, version: 1, created: '', updated: '', data });
  const summarize = (summary: string, by: string | undefined, documents: Document['data'][]) => {
    const state = new SummaryState(prepareQuery({ from: 'a', summary, ...(by === undefined ? {} : { by }) }));
    documents.forEach((data, place) => state.add(document(`d-${place}`, data)));
    return state.documents().map(({ data }) => data);
  };

  it('computes totals of all documents, and of groups in the order of their values', () => {
    const documents: Document['data'][] = [
      { status: 'aloft', n: 1, pilot: { name: 'Ada' } },
      { status: 'aloft', n: 2.5 },
      { status: null, n: 'x' },
      { n: -1, pilot: { name: 'Bo' } },
    ];
    expect(
      summarize('count(),sum(n),avg(n),min(n),max(n),named = count(pilot.name)', undefined, documents),
    ).to.deep.equal([{ 'count()': 4, 'sum(n)': 2.5, 'avg(n)': 2.5 / 3, 'min(n)': -1, 'max(n)': 'x', named: 2 }]);
    expect(summarize('count()', 'status', documents)).to.deep.equal([
      { status: null, 'count()': 2 },
      { status: 'aloft', 'count()': 2 },
    ]);
    expect(summarize('sum(n)', 'pilot.name', documents)).to.deep.equal([
      { pilot: { name: null }, 'sum(n)': 2.5 },
      { pilot: { name: 'Ada' }, 'sum(n)': 1 },
      { pilot: { name: 'Bo' }, 'sum(n)': -1 },
    ]);
    expect(summarize('count(),sum(n),avg(n),min(n)', undefined, [])).to.deep.equal([
      { 'count()': 0, 'sum(n)': 0, 'avg(n)': null, 'min(n)': null },
    ]);
    expect(summarize('count()', 'n', [])).to.deep.equal([]);
  });

  it('keep groups apart whose values look alike', () => {
    const values = [
      '1',
      1,
      true,
      'true',
      '',
      null,
      'null',
      [],
      {},
      '[]',
      'a.b',
      'a~b',
      'a/b',
      -0,
      '~z',
      'ß',
      '\u{1F388}',
    ];
    const state = new SummaryState(prepareQuery({ from: 'a', summary: 'count()', by: 'v,w' }));
    for (const v of values) for (const w of values) state.add(document('d', { v, w }));
    const ids = state.documents().map(({ id }) => id);
    expect(ids.length).to.equal(values.length ** 2);
    expect(new Set(ids).size).to.equal(ids.length);
    for (const id of ids)
      expect(id, 'needs no escaping in addresses and pointers but of "~"').to.match(/^[A-Za-z0-9_~.-]+$/);
  });

  it('refuse invalid input, and list the valid values', () => {
    const refused = (form: Record<string, unknown>) => {
      try {
        prepareQuery({ from: 'a', ...form } as never);
      } catch (error) {
        return `${(error as QueryError).pointer}: ${(error as QueryError).message}`;
      }
      return 'taken';
    };
    expect(refused({ summary: 'median(n)' })).to.match(/^\/summary: "median\(n\)" is no total/);
    expect(refused({ summary: 'sum()' })).to.match(/^\/summary: sum\(\) needs a field/);
    expect(refused({ summary: 'count(),count()' })).to.match(/two parts called "count\(\)"/);
    expect(refused({ summary: '' })).to.match(/^\/summary/);
    expect(refused({ summary: 'status = count()', by: 'status' })).to.match(/two parts called "status"/);
    expect(refused({ by: 'status' })).to.match(/^\/by: "by" belongs to a summary/);
    expect(refused({ summary: 'count()', by: 'a,,b' })).to.match(/^\/by: .*empty part/);
    expect(refused({ summary: 'count()', by: 'a,a' })).to.match(/^\/by: .*twice/);
    for (const name of ['order', 'limit', 'after', 'fields', 'include'])
      expect(refused({ summary: 'count()', [name]: name === 'limit' ? 5 : 'x' })).to.match(
        new RegExp(`takes no "${name}"`),
      );
    expect(parseSummary('COUNT( ) , top=Max( "a,b" )', undefined).totals.map(({ name }) => name)).to.deep.equal([
      'count()',
      'top',
    ]);
  });
});

describe('includes as text', () => {
  it('read as they would be written as JSON', () => {
    expect(
      parseIncludes(
        `crew = crews via crewId; flights by balloonId ORDER -start, "pad no" limit 3 fields start,pilot.name where status = 'a;{b}' { pad = pads via padId { lead = people via "lead id" }; weather by flightId; }`,
      ),
    ).to.deep.equal({
      crew: { from: 'crews', via: 'crewId' },
      flights: {
        from: 'flights',
        by: 'balloonId',
        order: '-start, "pad no"',
        limit: 3,
        fields: 'start,pilot.name',
        where: "status = 'a;{b}'",
        include: {
          pad: { from: 'pads', via: 'padId', include: { lead: { from: 'people', via: '"lead id"' } } },
          weather: { from: 'weather', by: 'flightId' },
        },
      },
    });
    expect(parseIncludes("launch-pads by crewId order -meta('updated')")).to.deep.equal({
      'launch-pads': { from: 'launch-pads', by: 'crewId', order: "-meta('updated')" },
    });
  });

  it('report the place of errors', () => {
    const fault = (text: string) => {
      try {
        prepareQuery({ from: 'a', include: text });
      } catch (error) {
        const { position, message } = error as QueryError;
        return `${position} ${message}`;
      }
      return 'taken';
    };
    expect(fault('')).to.match(/^0 Expected a collection here/);
    expect(fault('crews via')).to.match(/^9 The value of "via" is missing/);
    expect(fault('crews by a limit x')).to.match(/^17 A whole number is missing here/);
    expect(fault('crews by a { flights by b')).to.match(/^25 A closing brace is missing/);
    expect(fault('crews by a }')).to.match(/^11 This is not expected here/);
    expect(fault('crews by a nonsense')).to.match(/^11 This is not expected here/);
    expect(fault('crews by a; crews by b')).to.match(/^12 There are two includes named "crews"/);
    expect(fault('crews')).to.match(/either "via", a field of this document, or "by"/);
    expect(fault('crews by a via b')).to.match(/either "via"/);
    expect(fault('crews by a limit 5000')).to.match(/In the include crews: The limit is a whole number from 1 to 1000/);
    expect(fault('crews by a where x ==')).to.match(/In the include crews: /);
    expect(fault('a by b { a by b { a by b { a by b } } }')).to.match(/nested 3 levels/);
    expect(fault(Array.from({ length: 11 }, (_, n) => `c${n} by x`).join(';'))).to.match(/At most 10 includes/);
    expect(fault('{'.repeat(50))).to.match(/Expected a/);
    expect(() => parseIncludes('a by b {'.repeat(50))).to.throw(QueryError, /nested too deep/);
  });
});
