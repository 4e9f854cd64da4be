import { expect } from 'chai';
import {
  enableFullQueries,
  compareValues,
  compile,
  formatCql2Json,
  formatText,
  indexKey,
  Matcher,
  parseCql2Json,
  parseText,
  prepareQuery,
  project,
  QueryError,
  splitName,
  type Document,
  type JsonObject,
} from '@uproar/core';
import { Random } from '../../../test/random.js';
import { modelCondition, modelData } from '../../../test/random-query.js';

const documentOf = (data: JsonObject, id = 'd-1'): Document => ({
  id,
  version: 3,
  created: '2026-06-01T00:00:00.000Z',
  updated: '2026-06-02T00:00:00.000Z',
  data,
});

const balloon = documentOf(
  {
    status: 'aloft',
    altitude: 420,
    name: 'Élan Vert',
    tags: ['red', 'big'],
    pilot: { name: 'Jo', hours: 3 },
    day: '2026-06-12',
    seen: '2026-06-12T06:00:00+02:00',
    nothing: null,
    open: true,
    'odd name': 1,
    and: 2,
    line: {
      type: 'LineString',
      coordinates: [
        [0, 0],
        [4, 4],
      ],
    },
    position: { type: 'Point', coordinates: [0.5, 0.5] },
  },
  'bl-17',
);

enableFullQueries();

describe('a condition', () => {
  const judge = (text: string) =>
    compile(parseText(text))({ document: balloon, claims: { role: 'tower' }, before: documentOf({ crew: 'c-1' }) });

  const CASES: [string, boolean | undefined][] = [
    ["CASEI('ΣΊΣΥΦΟΣ') = CASEI('σίσυφος') AND CASEI('STRASSE') = CASEI('straße') AND CASEI('ẞ') = CASEI('ss')", true],
    ["CASEI('ı') = CASEI('I')", false],
    ["ACCENTI('한글') = '한글' AND ACCENTI('Élan') = 'Elan'", true],
    ["A_EQUALS(tags, ['big', 'red', 'big']) AND NOT A_EQUALS(tags, ['red'])", true],
    ["TIMESTAMP('2026-06-12T04:00:00.0001Z') > TIMESTAMP('2026-06-12T04:00:00Z')", true],
    ["T_BEFORE(TIMESTAMP('2026-06-12T04:00:00.000000001Z'), TIMESTAMP('2026-06-12T04:00:00.000000002Z'))", true],
    ["T_AFTER('2026-06-12T24:00:00Z', TIMESTAMP('2026-06-12T04:00:00Z'))", undefined],
    ['round(1e300, 20) = 1e300 AND round(15, -1) = 20 AND round(15, -400) = 0 AND round(-1.25, 1) = -1.2', true],
    ["number('0x10') = 16", undefined],
    ["number(' 1.5e1 ') = 15", true],
    ['S_INTERSECTS(position, POINTZ(0.5 0.5 7)) AND S_EQUALS(position, POINT ZM(0.5 0.5 7 8))', true],
    ['S_TOUCHES(line, POINT(4 4)) AND S_CROSSES(line, LINESTRING(0 4, 4 0))', true],
    ['S_OVERLAPS(line, LINESTRING(2 2, 6 6))', true],
    ["part('a,b,c', ',', -1) = 'c' AND part('a,b,c', ',', 2) = 'b' AND part('aaa', 'aa', -1) = 'a'", true],
    ["part('a,b', ',', 3) = 'x'", undefined],
    ["substring('a🎈b', 2, 1) = '🎈' AND length('a🎈b') = 3 AND 'a🎈b' LIKE 'a_b'", true],
    ["status = 'aloft' AND altitude > 300", true],
    ["status = 'aloft' and not altitude > 300", false],
    ['altitude = 1 OR missing = 2', undefined],
    ["missing = 1 OR status = 'aloft'", true],
    ["missing = 1 AND status = 'packed'", false],
    ['NOT missing = 1', undefined],
    ["altitude = '420'", undefined],
    ['nothing = 1', undefined],
    ['nothing IS NULL AND missing IS NULL AND status IS NOT NULL', true],
    ['altitude BETWEEN 420 AND 500', true],
    ['altitude NOT BETWEEN 420 AND 500', false],
    ["status IN ('packed', 'aloft')", true],
    ["status NOT IN ('packed')", true],
    ['altitude IN (1, status, 420)', true],
    ["name LIKE '_lan%'", true],
    ["name NOT LIKE 'x%'", true],
    ["CASEI(name) = CASEI('ÉLAN VERT')", true],
    ["ACCENTI(name) = ACCENTI('Elan Vert')", true],
    ["CASEI(ACCENTI(name)) LIKE CASEI(ACCENTI('ELAN%'))", true],
    ["CASEI('STRASSE') = CASEI('straße')", true],
    ['pilot.hours * 2 + 1 = 7', true],
    ['2 + 3 * 4 ^ 2 / 2 = 26 AND 7 DIV 2 = 3 AND 7 % 4 = 3 AND -3 < 0', true],
    ['altitude / 0 > 1', undefined],
    ['altitude > pilot.hours', true],
    ['"odd name" = 1 AND "and" = 2', true],
    ["A_CONTAINS(tags, ('red'))", true],
    ["A_CONTAINEDBY(tags, ['red', 'big', 'old'])", true],
    ["A_OVERLAPS(tags, ('x', 'big'))", true],
    ["A_EQUALS(tags, ['red', 'big'])", true],
    ['A_CONTAINS(status, [1])', undefined],
    ["day = DATE('2026-06-12') AND seen = TIMESTAMP('2026-06-12T04:00:00Z')", true],
    ["seen > TIMESTAMP('2026-06-12T03:59:59.999Z')", true],
    ["status > TIMESTAMP('2026-06-12T03:59:59Z')", undefined],
    ["T_DURING(seen, INTERVAL('2026-06-11', '..'))", true],
    ['T_CONTAINS(day, seen)', true],
    ["T_STARTS(day, INTERVAL(day, '2026-06-14'))", true],
    ["T_MEETS(INTERVAL('..', '2026-06-12T04:00:00Z'), seen)", true],
    ['S_INTERSECTS(line, BBOX(1, 1, 2, 2))', true],
    ['S_DISJOINT(line, POINT(9 9))', true],
    ['S_WITHIN(position, POLYGON((0 0, 1 0, 1 1, 0 1, 0 0)))', true],
    ['S_CONTAINS(MULTIPOLYGON(((0 0, 1 0, 1 1, 0 1, 0 0))), position)', true],
    ['S_INTERSECTS(status, POINT(1 1))', undefined],
    ["meta('id') = 'bl-17' AND meta('version') < 4", true],
    ["meta('created') < TIMESTAMP('2026-06-01T00:00:01Z')", true],
    ["claim('role') = 'tower'", true],
    ["claim('nothing') = 'x'", undefined],
    ["was('crew') = 'c-1'", true],
    ["length(name) = 9 AND size(tags) = 2 AND size(pilot) = 2 AND lower('A') = 'a'", true],
    ['round(3.14159, 2) = 3.14 AND abs(-2) = 2 AND floor(1.9) = 1 AND ceil(1.1) = 2', true],
    ["substring(status, 2, 3) = 'lof' AND concat(status, '!') = 'aloft!' AND trim(' a ') = 'a'", true],
    ["least(3, 1, 2) = 1 AND greatest(3, 1) = 3 AND type(tags) = 'array' AND type(missing) = 'missing'", true],
    ['open = TRUE AND TRUE', true],
  ];
  for (const [text, expected] of CASES) {
    it(`${text} is ${expected ?? 'unknown'}, also through CQL2 JSON and back`, () => {
      expect(judge(text)).to.equal(expected);
      const node = parseText(text);
      const json = formatCql2Json(node);
      expect(formatCql2Json(parseText(formatText(node)))).to.deep.equal(json);
      expect(formatCql2Json(parseCql2Json(json))).to.deep.equal(json);
    });
  }

  it('is refused with the place, the expected tokens and similar names', () => {
    const WRONG: [string, number, string][] = [
      ['status', 6, 'compare it'],
      ['altitude > ', 11, 'incomplete'],
      ["status = 'aloft", 9, 'not closed'],
      ['lenght(name) = 1', 0, 'Did you mean "length"'],
      ['a = 1 b = 2', 6, 'is complete before'],
      ['a = NULL', 4, 'IS NULL'],
      ['(a = 1', 6, '")" was expected'],
      ["day = DATE('2026-02-30')", 11, 'not a date'],
      ['a IN ()', 5, 'at least one'],
      ['a BETWEEN 1 OR 2', 12, 'AND was expected'],
      ["meta('size') = 1", 5, 'meta() supports'],
      ['BBOX(1, 2) = a', 0, '4 or 6'],
      ['POLYGON((0 0, 1 1)) = a', 0, 'not a valid Polygon'],
      ['abs(1, 2) = 1', 0, 'takes 1'],
      ['a = 1 AND ?', 10, 'is not allowed here'],
      ["T_AFTER(a, INTERVAL('x', '..'))", 20, 'not a time'],
    ];
    for (const [where, position, message] of WRONG) {
      try {
        prepareQuery({ from: 'a', where });
        expect.fail(`${where} was taken`);
      } catch (error) {
        expect(error, where).to.be.instanceOf(QueryError);
        expect((error as QueryError).message, where).to.include(message);
        expect((error as QueryError).position, where).to.equal(position);
      }
    }
    for (const wrong of [
      { op: 'nope', args: [] },
      { op: '=', args: [1] },
      { property: 'a' },
      null,
      { op: 'and', args: [{ property: 'a' }] },
      { op: 'in', args: [1, []] },
    ]) {
      expect(() => parseCql2Json(wrong as never), JSON.stringify(wrong)).to.throw(QueryError);
    }
  });

  it('is refused or evaluated in linear time if it is hostile', () => {
    const started = performance.now();
    expect(() => parseText(`${'('.repeat(5000)}a = 1`)).to.throw(QueryError, 'nested');
    expect(() => parseText(`${'NOT '.repeat(5000)}a = 1`)).to.throw(QueryError, 'nested');
    expect(() => parseText(`a = ${'-'.repeat(5000)}1`)).to.throw(QueryError, 'nested');
    expect(() => parseText(`a = 1${' OR a = 1'.repeat(40_000)}`)).to.throw(QueryError);
    let deep: JsonObject = { op: '=', args: [1, 1] };
    for (let level = 0; level < 5000; level++) deep = { op: 'not', args: [deep] };
    expect(() => parseCql2Json(deep)).to.throw(QueryError, 'nested');
    const many = compile(parseText(`altitude = -1${' OR altitude = 7'.repeat(4999)}`));
    expect(many({ document: balloon })).to.equal(false);
    const list = compile(parseText(`altitude IN (${Array.from({ length: 9999 }, (_, n) => n + 1000).join(', ')})`));
    for (let round = 0; round < 10_000; round++) list({ document: balloon });
    const like = compile(parseText(`name LIKE '${'%a'.repeat(1000)}b'`));
    expect(like({ document: documentOf({ name: 'a'.repeat(50_000) }) })).to.equal(false);
    expect(performance.now() - started).to.be.below(60_000);
  });

  it('agrees with a plain model of every operator', () => {
    const random = new Random(61);
    for (let round = 0; round < 3000; round++) {
      const { text, judge: model } = modelCondition(random);
      const condition = compile(parseText(text));
      const again = compile(parseCql2Json(formatCql2Json(parseText(formatText(parseText(text))))));
      for (let n = 0; n < 3; n++) {
        const document = documentOf(modelData(random));
        expect(condition({ document }), `${text} of ${JSON.stringify(document.data)}`).to.equal(model(document));
        expect(again({ document }), formatText(parseText(text))).to.equal(model(document));
      }
    }
  });
});

describe('the matcher', () => {
  it('never misses a condition that a document makes true, and files most under something', () => {
    const random = new Random(71);
    const matcher = new Matcher<number>();
    const conditions = Array.from({ length: 600 }, () => modelCondition(random));
    conditions.forEach(({ text }, index) => matcher.add(index, parseText(text)));
    const removed = new Set<number>();
    let tested = 0;
    for (let round = 0; round < 300; round++) {
      if (round % 3 === 0) {
        const index = random.integer(0, conditions.length - 1);
        if (removed.delete(index)) matcher.add(index, parseText(conditions[index]!.text));
        else {
          removed.add(index);
          matcher.remove(index);
        }
      }
      const document = documentOf(modelData(random));
      const found = new Set<number>();
      matcher.candidates(document, (index) => found.add(index));
      tested += found.size;
      conditions.forEach(({ text, judge }, index) => {
        if (removed.has(index)) expect(found.has(index)).to.equal(false);
        else if (judge(document) === true) expect(found.has(index), text).to.equal(true);
      });
    }
    expect(tested, 'candidates are fewer than all').to.be.below(300 * 600 * 0.62);
    for (let index = 0; index < conditions.length; index++) matcher.remove(index);
    expect([matcher.size, matcher.listSize]).to.deep.equal([0, 0]);
  });

  it('files requirements the most selective thing there is', () => {
    const matcher = new Matcher<number>();
    const matchedBy = (text: string) => {
      const { kind, requirements } = matcher.describe(parseText(text));
      return `${kind}: ${requirements.join(' | ')}`;
    };
    expect(matchedBy("status = 'aloft' AND altitude > 300")).to.equal("values: status = 'aloft'");
    expect(matchedBy('altitude > 300 AND altitude <= 500')).to.equal('ranges: altitude > 300 AND altitude <= 500');
    expect(matchedBy('NOT (altitude < 300 OR altitude > 500)')).to.equal('ranges: altitude >= 300 AND altitude <= 500');
    expect(matchedBy("crew = 'c-1' OR crew = 'c-2'")).to.equal("values: crew = 'c-1' | crew = 'c-2'");
    expect(matchedBy("crew = 'c-1' OR name LIKE '%x'")).to.equal("texts: crew = 'c-1' | name LIKE '%x%'");
    expect(matchedBy("crew = 'c-1' OR name <> 'x'")).to.equal('every-change: ');
    expect(matchedBy("CASEI(name) LIKE CASEI('_Amber F%')")).to.equal("texts: CASEI(name) LIKE '%amber f%'");
    expect(matchedBy("name LIKE '%50\\% o''er_x%'"), 'the longest part').to.equal("texts: name LIKE '%50\\% o''er%'");
    expect(matchedBy('altitude * 2 + fuel > 300')).to.equal('ranges: altitude * 2 + fuel > 300');
    expect(matchedBy("A_CONTAINS(tags, ['north', 3])")).to.equal("values: A_OVERLAPS(tags, ['north'])");
    expect(matchedBy("A_CONTAINEDBY(tags, ['north'])")).to.equal('every-change: ');
    expect(matchedBy('S_WITHIN(place, BBOX(1, 2, 3, 4)) AND landed IS NULL')).to.equal(
      'areas: S_INTERSECTS(place, BBOX(1, 2, 3, 4))',
    );
    expect(matchedBy('S_DISJOINT(place, BBOX(1, 2, 3, 4))')).to.equal('every-change: ');
    expect(matchedBy("seen < TIMESTAMP('2026-06-11T04:00:00Z')")).to.equal(
      "ranges: seen <= TIMESTAMP('2026-06-11T04:00:00.000Z')",
    );
    expect(matchedBy('landed IS NULL')).to.equal('values: landed IS NULL');
    expect(matchedBy("name LIKE 'Amb%'")).to.equal("ranges: name >= 'Amb' AND name < 'Amc'");
    expect(matchedBy("open = TRUE AND meta('id') = 'x'")).to.equal("values: meta('id') = 'x'");
    for (let n = 0; n < 50; n++) matcher.add(n, parseText("status = 'aloft'"));
    expect(matchedBy("status = 'aloft' AND crew = 'c-1'"), 'a common value is less selective').to.equal(
      "values: crew = 'c-1'",
    );
  });
});

describe('a query', () => {
  it('has keys for indexes that sort as values do', () => {
    const random = new Random(81);
    for (let round = 0; round < 5000; round++) {
      const [a, b] = [random.value(), random.value()];
      expect(Math.sign(Buffer.compare(indexKey(a), indexKey(b))), JSON.stringify([a, b])).to.equal(
        Math.sign(compareValues(a, b)),
      );
    }
  });

  it('shows the fields asked for, and those it is ordered by', () => {
    const { fields } = prepareQuery({ from: 'a', fields: 'pilot.name,status,missing.x', order: '-altitude' });
    expect(project(balloon, fields)).to.deep.equal({
      id: 'bl-17',
      data: { pilot: { name: 'Jo' }, status: 'aloft', altitude: 420 },
    });
    expect(() => prepareQuery({ from: 'a', fields: 'a', order: "meta('updated')" })).to.throw(QueryError);
    expect(splitName('"a.b".c."d""e"')).to.deep.equal(['a.b', 'c', 'd"e']);
  });

  it('is refused when its parts are not what they must be', () => {
    for (const form of [
      { limit: 0 },
      { limit: 10_001 },
      { limit: 1.5 },
      { order: 'a,,b' },
      { order: '-' },
      { order: 'a(b)' },
      { order: "meta('x')" },
      { after: 'x' },
      { after: btoa('[]') },
      { fields: 'a,' },
    ]) {
      expect(() => prepareQuery({ from: 'a', ...form }), JSON.stringify(form)).to.throw(QueryError);
    }
    expect(() => prepareQuery({ from: 'Not' })).to.throw(QueryError);
  });

  it('has the same key exactly when it asks the same', () => {
    const key = (where: string, order?: string) => prepareQuery({ from: 'a', where, order }).key;
    expect(key("a = 1  and b='x'")).to.equal(key("(a = 1) AND (b = 'x')"));
    expect(key('a = 1')).not.to.equal(key("a = '1'"));
    expect(key('a = 1', 'b')).not.to.equal(key('a = 1', '-b'));
  });
});
