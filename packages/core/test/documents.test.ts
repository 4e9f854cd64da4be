import { expect } from 'chai';
import {
  compareStrings,
  compareValues,
  createIdGenerator,
  deepEqual,
  findDataFault,
  isCollectionName,
  isDocumentId,
  JsonTextError,
  parseJson,
  type JsonValue,
} from '@uproar/core';
import { Random } from '../../../test/random.js';

describe('the rules for names', () => {
  it('take the ids that addresses can carry as they are', () => {
    for (const id of ['a', 'bl-17', 'A.b_c~d-1', '...', 'x'.repeat(128), '__proto__'])
      expect(isDocumentId(id), id).to.equal(true);
    for (const id of ['', '.', '..', 'a/b', 'a b', 'ä', 'x'.repeat(129), 'a\n', 'a%20'])
      expect(isDocumentId(id), id).to.equal(false);
  });

  it('take collection names of small letters, digits and hyphens', () => {
    for (const name of ['b', 'balloons', 'a-1', `a${'b'.repeat(63)}`])
      expect(isCollectionName(name), name).to.equal(true);
    for (const name of ['', 'Balloons', '1a', '-a', 'a_b', 'a.b', `a${'b'.repeat(64)}`, 'a\n'])
      expect(isCollectionName(name), name).to.equal(false);
  });
});

describe('data that is to be kept', () => {
  const nested = (levels: number): unknown => (levels === 0 ? 1 : { a: nested(levels - 1) });

  it('is an object of JSON values, as deep as allowed', () => {
    expect(findDataFault({ a: [1, 'x', null, true, {}] })).to.equal(undefined);
    expect(findDataFault(nested(64))).to.equal(undefined);
  });

  it('is refused with the place of the fault', () => {
    expect(findDataFault([1])?.kind).to.equal('not-an-object');
    expect(findDataFault(null)?.detail).to.include('not null');
    expect(findDataFault(nested(65))?.kind).to.equal('too-deep');
    expect(findDataFault({ a: { 'b/c': ['x', '\ud800'] } })).to.include({
      kind: 'lone-surrogate',
      pointer: '/a/b~1c/1',
    });
    expect(findDataFault({ a: { '\udc00': 1 } })).to.include({ kind: 'lone-surrogate', pointer: '/a' });
    expect(findDataFault({ a: Number.NaN })).to.include({ kind: 'not-json', pointer: '/a' });
    expect(findDataFault({ a: undefined })).to.include({ kind: 'not-json', pointer: '/a' });
  });
});

describe('reading JSON', () => {
  it('agrees with the language on texts that are sound', () => {
    const random = new Random(3);
    for (let round = 0; round < 3000; round++) {
      const value = random.value(4);
      const text = JSON.stringify(value, null, random.pick([0, 1, '\t']));
      expect(deepEqual(parseJson(text), value), text).to.equal(true);
    }
  });

  it('refuses doubled names at any depth, also when written differently', () => {
    for (const text of [
      '{"a":1,"a":2}',
      '[{"x":{"b":1,"c":2,"b":3}}]',
      '{"a":1,"\\u0061":2}',
      '{"":1,"":1}',
      '{"a\\"":1,"a\\"":2}',
    ]) {
      expect(() => parseJson(text), text).to.throw(JsonTextError, 'same name');
    }
    expect(parseJson('{"a":{"a":"a:a"},"b":["{\\"a\\":1,\\"a\\":2}","\\\\"]}')).to.be.an('object');
  });

  it('refuses numbers that a double cannot represent, with the place', () => {
    for (const text of ['{"n":12345678901234567890}', '[1e999]', '{"n":-9007199254740993}'])
      expect(() => parseJson(text), text).to.throw(JsonTextError);
    expect(parseJson('[9007199254740991,1e300,0.1234567890123456789,-0]')).to.have.length(4);
    try {
      parseJson('{"a":1,\n "b":12345678901234567890}');
      expect.fail('it was taken');
    } catch (error) {
      expect((error as JsonTextError).position).to.equal(13);
    }
  });

  it('reports where a text stops being JSON', () => {
    try {
      parseJson('{"a":1,}');
      expect.fail('it was taken');
    } catch (error) {
      expect((error as JsonTextError).position).to.equal(7);
    }
  });
});

describe('the order of values', () => {
  const ASCENDING: (JsonValue | undefined)[] = [
    null,
    false,
    true,
    -1e300,
    -1,
    -0.5,
    0,
    5e-324,
    1,
    10,
    '',
    '0',
    'A',
    'Z',
    'a',
    'aa',
    'ß',
    '\uffee',
    '\u{10000}',
    '\u{1F388}',
    [],
    [null],
    [1],
    [1, 0],
    [2],
    ['a'],
    {},
    { a: 1 },
    { a: 1, b: 0 },
    { a: 2 },
    { b: 0 },
  ];

  it('is the documented one', () => {
    ASCENDING.forEach((a, i) =>
      ASCENDING.forEach((b, j) =>
        expect(Math.sign(compareValues(a, b)), `${JSON.stringify(a)} and ${JSON.stringify(b)}`).to.equal(
          Math.sign(i - j),
        ),
      ),
    );
    expect(compareValues(undefined, null)).to.equal(0);
  });

  it('is a total order in which only equals are equal', () => {
    const random = new Random(5);
    for (let round = 0; round < 5000; round++) {
      const [a, b, c] = [random.value(), random.value(), random.value()];
      expect(Math.sign(compareValues(a, b))).to.equal(-Math.sign(compareValues(b, a)) + 0);
      if (compareValues(a, b) <= 0 && compareValues(b, c) <= 0) expect(compareValues(a, c)).to.be.at.most(0);
      expect(compareValues(a, b) === 0).to.equal(deepEqual(a, b));
    }
  });

  it('puts strings in the order of their UTF-8 bytes', () => {
    const random = new Random(9);
    const text = () =>
      String.fromCodePoint(
        ...Array.from({ length: random.integer(0, 4) }, () =>
          random.pick([0x41, 0x7f, 0xdf, 0xd7ff, 0xe000, 0xffff, 0x10000, 0x10ffff]),
        ),
      );
    for (let round = 0; round < 3000; round++) {
      const [a, b] = [text(), text()];
      expect(Math.sign(compareStrings(a, b))).to.equal(Buffer.compare(Buffer.from(a), Buffer.from(b)));
    }
  });
});

describe('generated ids', () => {
  const generator = (times: number[]) => {
    let at = 0;
    const random = new Random(1);
    return createIdGenerator({
      now: () => times[Math.min(at++, times.length - 1)]!,
      random: (bytes) => bytes.forEach((_, index) => (bytes[index] = random.integer(0, 255))),
    });
  };

  it('are UUIDs of version 7 that carry the time', () => {
    const id = generator([1_780_000_000_123])();
    expect(id).to.match(/^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/);
    expect(Number.parseInt(id.replaceAll('-', '').slice(0, 12), 16)).to.equal(1_780_000_000_123);
  });

  it('increase strictly while the clock runs, stands still or steps back', () => {
    const random = new Random(2);
    let now = 1_780_000_000_000;
    const times = Array.from({ length: 20_000 }, () => (now += random.pick([0, 0, 0, 1, 5, -1, -100_000])));
    const next = generator(times);
    let last = '';
    for (let count = 0; count < 20_000; count++) {
      const id = next();
      expect(id > last, `${id} after ${last}`).to.equal(true);
      last = id;
    }
  });
});
