import type { Document, JsonObject, JsonValue } from '@uproar/core';
import type { Random } from './random.js';

/** True, false or unknown. */
type Truth = boolean | undefined;

/** A condition as text, and an independent evaluation of it that shares no code with the product. */
export interface ModelCondition {
  text: string;
  judge: (document: Document) => Truth;
}

/** A query as text, and an independent evaluation of it. */
export interface ModelQuery {
  form: { from: string; where?: string; order?: string; limit?: number | 'none'; ordered?: boolean; fields?: string };
  answer: (documents: Iterable<Document>) => unknown[];
  /** How many documents belong to it, the limit aside. */
  count: (documents: Iterable<Document>) => number;
}

/** The fields that orders use: never lists or objects, which the plain comparison here does not tell apart. */
const ORDERED = new Set(['status', 'altitude', 'open']);
const STATUSES = ['aloft', 'packed', 'landed', 'Élan', 'ÉLAN', 'a%b', ''];
const WORDS = ['north', 'South', 'été', 'z'];
const TIMES = [
  '2026-06-10',
  '2026-06-11T04:00:00Z',
  '2026-06-11T04:00:00.000Z',
  '2026-06-12',
  '2026-06-12T23:59:59Z',
  'no time',
];
const POINTS = [0, 0.5, 1, 2, 3];

/** Data of a document of the model: every field is now and then missing, null, or of another type. */
export function modelData(random: Random): JsonObject {
  const data: JsonObject = {};
  const put = (name: string, value: () => JsonValue) => {
    const kind = random.next();
    if (kind < 0.1) return;
    const odd = () => (ORDERED.has(name) ? random.value(0) : withoutPrototype(random.value(1)));
    data[name] = kind < 0.15 ? null : kind < 0.2 ? odd() : value();
  };
  put('status', () => random.pick(STATUSES));
  put('altitude', () => random.integer(-3, 12));
  put('open', () => random.chance(0.5));
  put('tags', () => WORDS.filter(() => random.chance(0.4)));
  put('day', () => random.pick(TIMES));
  put('place', () => ({ type: 'Point', coordinates: [random.pick(POINTS), random.pick(POINTS)] }));
  put('pilot', () => ({ name: random.pick(WORDS), hours: random.integer(0, 5) }));
  return data;
}

/** Some JSON Patch packages refuse to touch members called `__proto__`. */
const withoutPrototype = (value: JsonValue): JsonValue => (JSON.stringify(value).includes('__proto__') ? 0 : value);
const quote = (text: string) => `'${text.replaceAll("'", "''")}'`;
const not = (truth: Truth): Truth => (truth === undefined ? undefined : !truth);

/** A random condition that uses every kind of operator. */
export function modelCondition(random: Random, depth = 3): ModelCondition {
  const kind = random.integer(0, depth > 0 ? 13 : 9);
  switch (kind) {
    case 0: {
      const value = random.pick(STATUSES);
      const [sign, decide] = random.pick<[string, (same: boolean) => boolean]>([
        ['=', (same) => same],
        ['<>', (same) => !same],
      ]);
      return onField('status', 'string', `${sign} ${quote(value)}`, (found) => decide(found === value));
    }
    case 1:
    case 2: {
      const value = random.integer(-3, 12);
      const [sign, decide] = random.pick<[string, (found: number) => boolean]>([
        ['<', (found) => found < value],
        ['>', (found) => found > value],
        ['<=', (found) => found <= value],
        ['>=', (found) => found >= value],
        ['=', (found) => found === value],
      ]);
      return onField('altitude', 'number', `${sign} ${value}`, (found) => decide(found as number));
    }
    case 3: {
      const [low, high] = [random.integer(-3, 8), random.integer(-3, 12)];
      return onField(
        'altitude',
        'number',
        `BETWEEN ${low} AND ${high}`,
        (found) => (found as number) >= low && (found as number) <= high,
      );
    }
    case 4: {
      const values = Array.from({ length: random.integer(1, 4) }, () => random.pick(STATUSES));
      return onField('status', 'string', `IN (${values.map(quote).join(', ')})`, (found) =>
        values.includes(found as string),
      );
    }
    case 5: {
      const name = random.pick(['status', 'altitude', 'pilot', 'tags', 'nothing']);
      const isNull = (document: Document) => (document.data[name] ?? null) === null;
      return random.chance(0.5)
        ? { text: `${name} IS NULL`, judge: isNull }
        : { text: `${name} IS NOT NULL`, judge: (document) => !isNull(document) };
    }
    case 6: {
      const [pattern, expression] = random.pick<[string, RegExp]>([
        ['a%', /^a.*$/su],
        ['%ed', /^.*ed$/su],
        ['%an%', /^.*an.*$/su],
        ['%o_t%', /^.*o.t.*$/su],
        ['_an%', /^.an.*$/su],
        ['a\\%b', /^a%b$/su],
        ['%', /^.*$/su],
      ]);
      return onField('status', 'string', `LIKE ${quote(pattern)}`, (found) => expression.test(found as string));
    }
    case 7: {
      const fold = (text: string) =>
        text
          .normalize('NFD')
          .replace(/[\u0300-\u036f]/g, '')
          .toLowerCase();
      const value = random.pick(['élan', 'ELAN', 'Aloft']);
      return {
        text: `CASEI(ACCENTI(status)) = CASEI(ACCENTI(${quote(value)}))`,
        judge: ({ data }) => (typeof data.status === 'string' ? fold(data.status) === fold(value) : undefined),
      };
    }
    case 8:
      return random.pick([arrayCondition, timeCondition, placeCondition, arithmeticCondition])(random);
    case 9: {
      const value = random.chance(0.5);
      return onField('open', 'boolean', `= ${value}`, (found) => found === value);
    }
    case 10: {
      const inner = modelCondition(random, depth - 1);
      return { text: `NOT (${inner.text})`, judge: (document) => not(inner.judge(document)) };
    }
    default: {
      const parts = Array.from({ length: random.integer(2, 3) }, () => modelCondition(random, depth - 1));
      const isAnd = kind !== 11;
      const text = parts.map((part) => `(${part.text})`).join(isAnd ? ' AND ' : ' OR ');
      return {
        text,
        judge: (document) => {
          const truths = parts.map((part) => part.judge(document));
          if (truths.includes(!isAnd)) return !isAnd;
          return truths.includes(undefined) ? undefined : isAnd;
        },
      };
    }
  }
}

function onField(name: string, type: string, rest: string, decide: (found: JsonValue) => boolean): ModelCondition {
  return {
    text: `${name} ${rest}`,
    judge: ({ data }) => (typeof data[name] === type ? decide(data[name]!) : undefined),
  };
}

function arrayCondition(random: Random): ModelCondition {
  const wanted = WORDS.filter(() => random.chance(0.4));
  const [operator, decide] = random.pick<[string, (found: JsonValue[]) => boolean]>([
    ['A_CONTAINS', (found) => wanted.every((word) => found.includes(word))],
    ['A_CONTAINEDBY', (found) => found.every((word) => wanted.includes(word as string))],
    ['A_OVERLAPS', (found) => found.some((word) => wanted.includes(word as string))],
    ['A_EQUALS', (found) => JSON.stringify(found) === JSON.stringify(wanted)],
  ]);
  return {
    text: `${operator}(tags, [${wanted.map(quote).join(', ')}])`,
    judge: ({ data }) => (Array.isArray(data.tags) ? decide(data.tags) : undefined),
  };
}

function timeCondition(random: Random): ModelCondition {
  const border = Date.UTC(2026, 5, 11, 4);
  const span = ({ data: { day } }: Document): [number, number] | undefined => {
    if (typeof day !== 'string' || !day.startsWith('2026-')) return undefined;
    const from = Date.parse(day);
    return day.length === 10 ? [from, from + 86_400_000 - 1] : [from, from];
  };
  if (random.chance(0.3)) {
    const [sign, later] = random.pick<[string, (found: number) => boolean]>([
      ['>', (found) => found > border],
      ['<=', (found) => found <= border],
      ['=', (found) => found === border],
    ]);
    const moment = ({ data: { day } }: Document) =>
      typeof day === 'string' && day.endsWith('Z') ? Date.parse(day) : undefined;
    return {
      text: `day ${sign} TIMESTAMP('2026-06-11T04:00:00Z')`,
      judge: (document) => (moment(document) === undefined ? undefined : later(moment(document)!)),
    };
  }
  const [text, decide] = random.pick<[string, (from: number, to: number) => boolean]>([
    ["T_AFTER(day, TIMESTAMP('2026-06-11T04:00:00Z'))", (from) => from > border],
    ["T_BEFORE(day, TIMESTAMP('2026-06-11T04:00:00Z'))", (_, to) => to < border],
    ["T_EQUALS(day, TIMESTAMP('2026-06-11T04:00:00Z'))", (from, to) => from === border && to === border],
    ["T_INTERSECTS(day, INTERVAL('2026-06-11T04:00:00Z', '..'))", (_, to) => to >= border],
    [
      "T_DURING(day, INTERVAL('2026-06-10', '2026-06-12'))",
      (from, to) => from > Date.UTC(2026, 5, 10) && to < Date.UTC(2026, 5, 13) - 1,
    ],
  ]);
  return { text, judge: (document) => span(document) && decide(...span(document)!) };
}

function placeCondition(random: Random): ModelCondition {
  const point = ({ data: { place } }: Document): [number, number] | undefined =>
    typeof place === 'object' && place !== null && !Array.isArray(place) && place.type === 'Point'
      ? (place.coordinates as [number, number])
      : undefined;
  const inside = ([x, y]: [number, number]) => x >= 0 && x <= 1 && y >= 0 && y <= 1;
  const [text, decide] = random.pick<[string, (found: [number, number]) => boolean]>([
    ['S_INTERSECTS(place, BBOX(0, 0, 1, 1))', inside],
    ['S_DISJOINT(place, POLYGON((0 0, 1 0, 1 1, 0 1, 0 0)))', (found) => !inside(found)],
    [
      'S_WITHIN(place, POLYGON((0.2 0.2, 2.5 0.2, 2.5 2.5, 0.2 2.5, 0.2 0.2)))',
      ([x, y]) => x > 0.2 && x < 2.5 && y > 0.2 && y < 2.5,
    ],
  ]);
  return { text, judge: (document) => point(document) && decide(point(document)!) };
}

function arithmeticCondition(random: Random): ModelCondition {
  const value = random.integer(0, 12);
  return {
    text: `altitude * 2 - pilot.hours > ${value}`,
    judge: ({ data }) => {
      const { altitude, pilot } = data;
      const hours = typeof pilot === 'object' && pilot !== null && !Array.isArray(pilot) ? pilot.hours : undefined;
      return typeof altitude === 'number' && typeof hours === 'number' ? altitude * 2 - hours > value : undefined;
    },
  };
}

const KINDS = ['nothing', 'false', 'true', 'number', 'string', 'array', 'object'];

/** The total order of values, implemented simply. Lists and objects are compared by their text alone. */
function compare(a: JsonValue | undefined, b: JsonValue | undefined): number {
  const kind = (value: JsonValue | undefined) =>
    KINDS.indexOf(
      (value ?? null) === null
        ? 'nothing'
        : typeof value === 'boolean'
          ? String(value)
          : Array.isArray(value)
            ? 'array'
            : typeof value,
    );
  if (kind(a) !== kind(b)) return kind(a) - kind(b);
  if (typeof a === 'number') return a - (b as number);
  if (typeof a === 'string') return Buffer.compare(Buffer.from(a), Buffer.from(b as string));
  return 0;
}

/** A random query over the model's documents. Orders use only fields whose values have no lists or objects in them. */
export function modelQuery(random: Random, from: string): ModelQuery {
  const condition = random.chance(0.85) ? modelCondition(random, 2) : undefined;
  const terms = random.chance(0.6)
    ? random.pick(['altitude', '-altitude', 'status,-altitude', '-status', "-meta('version')", '-open,altitude'])
    : undefined;
  const limit = random.pick<number | 'none'>(['none', 1, 2, 3, 5, 8]);
  const fields =
    random.chance(0.25) && !terms?.includes('meta')
      ? random.pick(['status', 'altitude,pilot.name', 'nothing'])
      : undefined;
  const ordered = limit !== 'none' && random.chance(0.5);
  const order = (terms?.split(',') ?? []).map((term) => ({
    name: term.replace(/^-/, ''),
    sign: term.startsWith('-') ? -1 : 1,
  }));
  const valueOf = (document: Document, name: string) => {
    const value = name.startsWith('meta') ? document.version : document.data[name];
    return typeof value === 'object' ? null : value;
  };
  const shown = [...(fields?.split(',') ?? []), ...order.map(({ name }) => name)];
  return {
    form: { from, where: condition?.text, order: terms, limit, ordered, fields },
    count: (documents) => [...documents].filter((document) => !condition || condition.judge(document) === true).length,
    answer: (documents) => {
      const found = [...documents].filter((document) => !condition || condition.judge(document) === true);
      found.sort((a, b) => {
        for (const { name, sign } of order) {
          const difference = compare(valueOf(a, name), valueOf(b, name));
          if (difference !== 0) return difference * sign;
        }
        return a.id < b.id ? -1 : 1;
      });
      const cut = limit === 'none' ? found : found.slice(0, limit);
      return fields === undefined
        ? cut
        : cut.map((document) => ({ id: document.id, data: pickFields(document.data, shown) }));
    },
  };
}

function pickFields(data: JsonObject, names: string[]): JsonObject {
  const picked: JsonObject = {};
  for (const name of names) {
    const [outer, inner] = name.split('.') as [string, string?];
    const value = data[outer];
    if (inner === undefined) {
      if (value !== undefined) picked[outer] = value;
    } else if (typeof value === 'object' && value !== null && !Array.isArray(value) && value[inner] !== undefined) {
      picked[outer] = { [inner]: value[inner] };
    }
  }
  return picked;
}
