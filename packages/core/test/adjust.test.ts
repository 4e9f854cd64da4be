import { expect } from 'chai';
import {
  AdjustError,
  applyAdjustments,
  applyWrite,
  canonicalText,
  deepEqual,
  exceedsSize,
  findAdjustFault,
  type Adjustment,
  type Adjustments,
  type Document,
  type JsonObject,
  type JsonValue,
} from '@uproar/core';
import { Random } from '../../../test/random.js';

const NOW = Date.UTC(2026, 5, 12, 6, 30);

function adjust(data: JsonObject, by: Adjustments): JsonObject {
  return applyAdjustments(data, by, NOW);
}

describe('adjustments', () => {
  it('work on the value that is there', () => {
    const CASES: [JsonObject, Adjustments, JsonObject][] = [
      [{ n: 4 }, { '/n': { add: -1.5 } }, { n: 2.5 }],
      [{ n: 4 }, { '/n': { max: 9 } }, { n: 9 }],
      [{ n: 4 }, { '/n': { max: 3 } }, { n: 4 }],
      [{ n: 4 }, { '/n': { min: 3 } }, { n: 3 }],
      [{ at: '2026-06-12' }, { '/at': { max: '2026-06-13' } }, { at: '2026-06-13' }],
      [{ l: [1] }, { '/l': { append: [1, [2]] } }, { l: [1, 1, [2]] }],
      [{ l: [{ a: 1, b: 2 }] }, { '/l': { with: [{ b: 2, a: 1 }, 3, 3] } }, { l: [{ a: 1, b: 2 }, 3] }],
      [{ l: [1, 2, 1, '1'] }, { '/l': { without: [1, 9] } }, { l: [2, '1'] }],
      [{ l: [1, 1] }, { '/l': { with: [2] } }, { l: [1, 1, 2] }],
      [{ a: 1 }, { '/seen': { now: true } }, { a: 1, seen: '2026-06-12T06:30:00.000Z' }],
      [{ a: 1, b: 2 }, { '/a': { clear: true } }, { b: 2 }],
      [{ legs: [{ km: 1 }, { km: 2 }] }, { '/legs/1/km': { add: 3 } }, { legs: [{ km: 1 }, { km: 5 }] }],
      [
        { 'a/b': 1, '~': 2 },
        { '/a~1b': { add: 1 }, '/~0': { add: 1 } },
        { 'a/b': 2, '~': 3 },
      ],
    ];
    for (const [data, by, expected] of CASES) {
      const before = structuredClone(data);
      expect(adjust(data, by), canonicalText(by as unknown as JsonValue)).to.deep.equal(expected);
      expect(data, 'the data given stays as it was').to.deep.equal(before);
    }
  });

  it('take a missing field for nothing, and create the objects in between only where a value is set', () => {
    const CASES: [Adjustment, JsonObject][] = [
      [{ add: 2 }, { a: { b: 2 } }],
      [{ max: -3 }, { a: { b: -3 } }],
      [{ min: 'x' }, { a: { b: 'x' } }],
      [{ append: [1] }, { a: { b: [1] } }],
      [{ with: [1, 1] }, { a: { b: [1] } }],
      [{ without: [1] }, {}],
      [{ clear: true }, {}],
    ];
    for (const [adjustment, expected] of CASES) {
      expect(adjust({}, { '/a/b': adjustment }), JSON.stringify(adjustment)).to.deep.equal(expected);
    }
    const proto = adjust({}, { '/__proto__/polluted': { add: 1 } });
    expect(Object.hasOwn(proto, '__proto__')).to.equal(true);
    expect(({} as { polluted?: unknown }).polluted).to.equal(undefined);
  });

  it('are refused with the pointer where the field is of another type, or the path cannot be followed', () => {
    const data: JsonObject = { n: 1, s: 'x', nothing: null, l: [1], o: {}, top: Number.MAX_SAFE_INTEGER, huge: 1e308 };
    const CASES: [string, Adjustment, string, string][] = [
      ['/s', { add: 1 }, '/s', 'a number'],
      ['/nothing', { add: 1 }, '/nothing', 'null'],
      ['/s', { max: 1 }, '/s', 'a number'],
      ['/n', { min: 'x' }, '/n', 'a string'],
      ['/nothing', { max: 1 }, '/nothing', 'null'],
      ['/n', { append: [1] }, '/n', 'a list'],
      ['/o', { with: [1] }, '/o', 'an object'],
      ['/s', { without: [1] }, '/s', 'a list'],
      ['/n/deeper', { add: 1 }, '/n', 'has no members'],
      ['/nothing/deeper', { clear: true }, '/nothing', 'has no members'],
      ['/l/1', { add: 1 }, '/l', 'not an index'],
      ['/l/-', { add: 1 }, '/l', 'not an index'],
      ['/l/0', { clear: true }, '/l/0', 'without'],
      ['/top', { add: 1 }, '/top', 'exact'],
      ['/huge', { add: 1e308 }, '/huge', 'beyond'],
      ['/top', { add: 1.5 }, '/top', 'beyond'],
    ];
    for (const [pointer, adjustment, at, words] of CASES) {
      const error = expect(() => adjust(data, { [pointer]: adjustment }), pointer).to.throw(AdjustError);
      error.with.property('pointer', at);
      error.with.property('message').that.includes(words);
    }
  });

  it('cannot be for the whole document, nor one within another', () => {
    for (const pointers of [[''], ['a'], ['/a~2'], ['/a', '/a/b'], ['/a/b/c', '/a']]) {
      const by = Object.fromEntries(pointers.map((pointer) => [pointer, { add: 1 }]));
      expect(findAdjustFault(by)?.detail, pointers.join(' ')).to.be.a('string');
    }
    expect(findAdjustFault({ '/a': { add: 1 }, '/ab': { add: 1 }, '/b/a': { add: 1 } })).to.equal(undefined);
  });

  it('agree with a plain model of sets and sums (seeds 1 to 200)', () => {
    for (let seed = 1; seed <= 200; seed++) {
      const random = new Random(seed);
      let data: JsonObject = {};
      let sum = 0;
      let items: JsonValue[] = [];
      for (let step = 0; step < 30; step++) {
        const amount = random.integer(-50, 50);
        const some = Array.from({ length: random.integer(0, 3) }, () => random.value(2));
        const how = random.pick(['with', 'without', 'append'] as const);
        data = adjust(data, { '/sum': { add: amount }, '/deep/list': { [how]: some } as unknown as Adjustment });
        sum += amount;
        if (how === 'append') items.push(...some);
        else if (how === 'without') items = items.filter((item) => !some.some((gone) => deepEqual(gone, item)));
        else for (const item of some) if (!items.some((known) => deepEqual(known, item))) items.push(item);
        const list = (data.deep as JsonObject | undefined)?.list ?? [];
        expect(deepEqual(list, items), `seed ${seed}, step ${step}`).to.equal(true);
        expect(data.sum).to.equal(sum);
      }
    }
  });
});

describe('applying a patch or an adjustment as a write', () => {
  const current: Document = { id: 'c-1', version: 3, created: '', updated: '', data: { n: 1, list: [1] } };
  const stamp = { seq: 4, timeMs: NOW };
  const write = (kind: object) => applyWrite(current, { collection: 'crews', id: 'c-1', ...kind } as never, stamp);

  it('distinguishes a failed test from a patch that does not fit', () => {
    const patch = (...ops: object[]) => {
      const outcome = write({ kind: 'patch', ops });
      return 'refusal' in outcome ? [outcome.refusal.kind, outcome.refusal.pointer] : outcome.after!.data;
    };
    expect(patch({ op: 'test', path: '/n', value: 1 }, { op: 'replace', path: '/n', value: 2 })).to.include({ n: 2 });
    expect(patch({ op: 'test', path: '/n', value: 2 })).to.deep.equal(['test-failed', '/n']);
    expect(patch({ op: 'remove', path: '/none' })).to.deep.equal(['patch-failed', '/none']);
    expect(patch({ op: 'replace', path: '', value: [1] })).to.deep.equal(['bad-document', '']);
    expect(patch({ op: 'add', path: '/text', value: 'half \ud83c' })).to.deep.equal(['bad-document', '/text']);
  });

  it('stops a patch that copies a value into itself until it is too large, at once', () => {
    const ops = Array.from({ length: 70 }, () => ({ op: 'copy', from: '', path: '/again' }));
    const started = performance.now();
    expect(write({ kind: 'patch', ops })).to.have.nested.property('refusal.kind', 'bad-document');
    const wide = Array.from({ length: 60 }, () => ({ op: 'copy', from: '/list', path: '/list/-' }));
    expect(write({ kind: 'patch', ops: wide })).to.have.nested.property('refusal.kind', 'too-large');
    expect(performance.now() - started, 'milliseconds').to.be.below(30_000);
  });

  it('stamps with the time of the commit and keeps what does not change', () => {
    const outcome = write({ kind: 'adjust', by: { '/seen': { now: true } } }) as { after: Document };
    expect(outcome.after).to.deep.include({ version: 4, data: { n: 1, list: [1], seen: '2026-06-12T06:30:00.000Z' } });
    expect(outcome.after.data.list).to.equal(current.data.list);
  });

  it('checks sizes without serialising the value', () => {
    const random = new Random(9);
    for (let n = 0; n < 300; n++) {
      const value = random.value(4);
      const bytes = Buffer.byteLength(JSON.stringify(value));
      expect(exceedsSize(value, bytes), 'never says so of a value that fits').to.equal(false);
    }
    expect(exceedsSize(['x'.repeat(100)], 100)).to.equal(true);
    expect(exceedsSize({ [`${'n'.repeat(50)}`]: 1 }, 50)).to.equal(true);
  });
});
