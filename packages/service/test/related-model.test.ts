import { expect } from 'chai';
import {
  accessFor,
  deepEqual,
  readPolicy,
  type Access,
  type Document,
  type JsonObject,
  type JsonValue,
} from '@uproar/core';
import type { WireQuery } from '@uproar/protocol';
import { DEFAULT_BUDGETS } from '@uproar/service/settings';
import { openStore, type Store } from '@uproar/service';
import { ModelWatcher } from '../../../test/model-watcher.js';
import { Random } from '../../../test/random.js';
import { temporaryDirectory } from '../../../test/service.js';
import { readListing } from '../dist/requests/read-listing.js';
import { LiveViews } from '../dist/live/live-views.js';
import type { ReadScope } from '../dist/reading/read-scope.js';
import { MetricsRecorder } from '../dist/metrics/metrics-recorder.js';

const COLLECTIONS = ['balloons', 'crews', 'flights'] as const;
type Name = (typeof COLLECTIONS)[number];
type Model = Record<Name, Map<string, Document>>;

/** What a caller may read: of each collection everything, nothing, or open documents only; and concealed fields. */
interface Sight {
  read: Record<Name, 'true' | 'false' | 'open = true'>;
  conceal: Record<Name, string[]>;
}

/** A query together with an independent evaluation that shares no code with the product. */
interface TestedQuery {
  form: WireQuery;
  answer: (model: Model) => { id: string }[];
  more: (model: Model) => boolean;
}

interface Asked {
  name: string;
  from: Name;
  via?: string;
  by?: string;
  status?: string;
  order?: string;
  limit?: number;
  fields?: string;
  inner: Asked[];
}

const readable = (sight: Sight) => COLLECTIONS.filter((name) => sight.read[name] !== 'false');
const STATUSES = ['ready', 'aloft', 'landed'];
const valuesOf = (document: Document, field: string) => document.data[field];

function seen(sight: Sight, from: Name, document: Document | undefined): Document | undefined {
  const rule = sight.read[from];
  if (!document || rule === 'false' || (rule === 'open = true' && document.data.open !== true)) return undefined;
  const data = { ...document.data };
  for (const field of sight.conceal[from]) delete data[field];
  return { ...document, data };
}

function all(model: Model, sight: Sight, from: Name): Document[] {
  return [...model[from].values()].flatMap((document) => seen(sight, from, document) ?? []);
}

function sorted(documents: Document[], order: string | undefined): Document[] {
  const rank = (value: JsonValue | undefined) =>
    typeof value === 'number' ? value : value === undefined ? -Infinity : Infinity;
  const [sign, field] = order?.startsWith('-') ? [-1, order.slice(1)] : [1, order];
  return documents.sort((a, b) => {
    const difference = field ? rank(valuesOf(a, field)) - rank(valuesOf(b, field)) : 0;
    return (Number.isNaN(difference) ? 0 : difference * sign) || (a.id < b.id ? -1 : 1);
  });
}

function shown(
  document: Document,
  { fields, order, inner }: Pick<Asked, 'fields' | 'order' | 'inner'>,
  model: Model,
  sight: Sight,
) {
  const names = fields && [...fields.split(','), ...(order ? [order.replace('-', '')] : [])];
  const base = names
    ? {
        id: document.id,
        data: Object.fromEntries(Object.entries(document.data).filter(([name]) => names.includes(name))),
      }
    : document;
  if (inner.length === 0) return base;
  return { ...base, related: Object.fromEntries(inner.map((one) => [one.name, related(document, one, model, sight)])) };
}

function related(document: Document, asked: Asked, model: Model, sight: Sight): unknown {
  const { from, via, by, status, order, limit = 100 } = asked;
  const there = all(model, sight, from).filter(({ data }) => status === undefined || data.status === status);
  if (by) {
    const owned = sorted(
      there.filter(({ data }) => data[by] === document.id),
      order,
    );
    return owned.slice(0, limit).map((one) => shown(one, asked, model, sight));
  }
  const value = valuesOf(document, via!);
  const ids = [...new Set(Array.isArray(value) ? value : [value])];
  const found = ids.flatMap((id) => there.find((one) => one.id === id) ?? []);
  const listed = (order ? sorted(found, order) : found).slice(0, limit).map((one) => shown(one, asked, model, sight));
  return Array.isArray(value) ? listed : (listed[0] ?? null);
}

const formOf = ({ from, via, by, status, order, limit, fields, inner }: Asked): JsonObject =>
  JSON.parse(
    JSON.stringify({
      from,
      via,
      by,
      where: status && `status = '${status}'`,
      order,
      limit,
      fields,
      include: includesOf(inner),
    }),
  ) as JsonObject;
const includesOf = (inner: Asked[]) =>
  inner.length === 0 ? undefined : Object.fromEntries(inner.map((one) => [one.name, formOf(one)]));

function randomAsked(random: Random, here: Name, level: number): Asked[] {
  const ways: Record<Name, Omit<Asked, 'name' | 'inner'>[]> = {
    balloons: [
      { from: 'crews', via: 'crew' },
      { from: 'flights', by: 'balloon' },
      { from: 'balloons', via: 'next' },
    ],
    crews: [
      { from: 'balloons', by: 'crew' },
      { from: 'flights', via: 'last' },
    ],
    flights: [
      { from: 'balloons', via: 'balloon' },
      { from: 'crews', via: 'crew' },
    ],
  };
  return ways[here]
    .filter(() => random.chance(level === 1 ? 0.7 : 0.35))
    .map((way, place) => ({
      ...way,
      name: `r${place}`,
      ...(random.chance(0.3) ? { status: random.pick(STATUSES) } : {}),
      ...(random.chance(0.5) ? { order: random.pick(['height', '-height']) } : {}),
      ...(random.chance(0.6) ? { limit: random.integer(1, 3) } : {}),
      ...(random.chance(0.2) ? { fields: 'status' } : {}),
      inner: level < 3 ? randomAsked(random, way.from, level + 1) : [],
    }));
}

function includeQuery(random: Random, sight: Sight): TestedQuery {
  const from = random.pick(readable(sight));
  const inner = randomAsked(random, from, 1);
  const status = random.chance(0.5) ? random.pick(STATUSES) : undefined;
  const order = random.chance(0.5) ? random.pick(['height', '-height']) : undefined;
  const limit = random.pick<number | 'none'>(['none', 1, 3, 6]);
  const ordered = limit !== 'none' && random.chance(0.5);
  const visible = (name: string) => !sight.conceal[from].includes(name);
  const found = (model: Model) =>
    all(model, sight, from).filter(({ data }) => status === undefined || data.status === status);
  return {
    form: {
      from,
      limit,
      ordered,
      ...(status ? { where: `status = '${status}'` } : {}),
      ...(order && visible('height') ? { order } : {}),
      ...(inner.length > 0 ? { include: includesOf(inner) as never } : {}),
    },
    answer: (model) =>
      sorted(found(model), visible('height') ? order : undefined)
        .slice(0, limit === 'none' ? undefined : limit)
        .map((document) => shown(document, { inner }, model, sight)),
    more: (model) => limit !== 'none' && found(model).length > limit,
  };
}

function summaryQuery(random: Random, sight: Sight): TestedQuery {
  const from = random.pick(readable(sight));
  const status = random.chance(0.4) ? random.pick(STATUSES) : undefined;
  const by = random.chance(0.7) ? random.pick(['status', 'crew', 'open', 'status,open']) : undefined;
  const summary = random.pick([
    'count()',
    'count(),sum(height)',
    'min(height),max(height)',
    'n = count(height), avg(height), max(status)',
  ]);
  const fold = (documents: Document[]): JsonObject => {
    const heights = documents.flatMap(({ data }) => (typeof data.height === 'number' ? data.height : []));
    const statuses = documents.flatMap(({ data }) => (typeof data.status === 'string' ? data.status : [])).sort();
    const high = documents.some(({ data }) => data.height === 'high') ? 'high' : null;
    // Heights are quarters, so that their sum is exact in any order.
    const sum = heights.reduce((total, height) => total + height, 0);
    const whole: JsonObject = {
      'count()': documents.length,
      'sum(height)': sum,
      // In the order of all values texts come behind numbers.
      'min(height)': heights.length ? Math.min(...heights) : high,
      'max(height)': high ?? (heights.length ? Math.max(...heights) : null),
      n: documents.filter(({ data }) => (data.height ?? null) !== null).length,
      'avg(height)': heights.length ? sum / heights.length : null,
      'max(status)': statuses.at(-1) ?? null,
    };
    const names = summary.split(',').map((part) => part.split('=')[0]!.trim());
    return Object.fromEntries(names.map((name) => [name, whole[name]!]));
  };
  return {
    form: { from, summary, ...(by ? { by } : {}), ...(status ? { where: `status = '${status}'` } : {}) },
    more: () => false,
    answer: (model) => {
      const documents = all(model, sight, from).filter(({ data }) => status === undefined || data.status === status);
      if (!by) return [{ id: 'all', data: fold(documents) }] as never;
      const groups = new Map<string, Document[]>();
      for (const document of documents) {
        const key = JSON.stringify(by.split(',').map((name) => document.data[name] ?? null));
        groups.set(key, [...(groups.get(key) ?? []), document]);
      }
      return [...groups].map(([key, members]) => ({
        id: key,
        data: {
          ...Object.fromEntries(by.split(',').map((name, place) => [name, (JSON.parse(key) as JsonValue[])[place]!])),
          ...fold(members),
        },
      }));
    },
  };
}

const plain = (value: unknown) => JSON.parse(JSON.stringify(value)) as JsonValue;

/** Groups are compared by what they are of; how they are called is the store's affair. */
function comparable(documents: unknown[], { form }: TestedQuery): JsonValue {
  if (form.summary === undefined) return plain(documents);
  return plain(
    documents
      .map((document) => (document as Document).data)
      .map((data) => Object.entries(data).sort(([a], [b]) => (a < b ? -1 : 1)))
      .sort((a, b) => (JSON.stringify(a) < JSON.stringify(b) ? -1 : 1)),
  );
}

async function run(seed: number, steps: number): Promise<void> {
  const random = new Random(seed);
  const { path, remove } = temporaryDirectory();
  const store: Store = openStore(path);
  const views = new LiveViews(store, new MetricsRecorder());
  const model: Model = { balloons: new Map(), crews: new Map(), flights: new Map() };
  const sight: Sight = {
    read: {
      balloons: random.pick(['true', 'true', 'open = true']),
      crews: random.pick(['true', 'open = true', 'false']),
      flights: random.pick(['true', 'true', 'open = true', 'false']),
    },
    conceal: {
      balloons: random.chance(0.2) ? ['crew'] : [],
      crews: random.chance(0.2) ? ['last'] : [],
      flights: random.chance(0.3) ? random.pick([['balloon'], ['height']]) : [],
    },
  };
  const rules = (name: Name) => ({ read: sight.read[name], conceal: sight.conceal[name] });
  const policy = readPolicy({ collections: Object.fromEntries(COLLECTIONS.map((name) => [name, rules(name)])) });
  const effectiveAccess = (name: string): Access => accessFor(policy, { claims: {} }, name);
  const scope: ReadScope = {
    accessTo: effectiveAccess,
    effectiveAccess,
    key: '',
    named: [],
    limits: {},
    holder: '',
    identity: '',
  };
  const context = {
    store,
    identities: { accessOf: (_: unknown, name: string) => effectiveAccess(name), policy },
    accessLimits: {},
    budgets: DEFAULT_BUDGETS,
  };
  const lease = { add: () => undefined, set: () => undefined, release: () => undefined };
  const watchers: ModelWatcher<TestedQuery>[] = [];

  const newData = (name: Name): JsonObject => {
    const id = (of: Name) => `${of}-${random.integer(0, of === 'flights' ? 14 : 6)}`;
    const data: JsonObject = { status: random.pick(STATUSES), open: random.chance(0.6) };
    if (random.chance(0.9)) data.height = random.integer(-8, 40) / 4;
    if (random.chance(0.05)) data.height = 'high';
    if (name === 'balloons') {
      data.crew = random.pick<JsonValue>([id('crews'), id('crews'), [id('crews'), id('crews'), 7, 'none'], 7, null]);
      if (random.chance(0.5)) data.next = id('balloons');
    }
    if (name === 'crews' && random.chance(0.7)) data.last = id('flights');
    if (name === 'flights') {
      if (random.chance(0.9)) data.balloon = id('balloons');
      if (random.chance(0.7)) data.crew = id('crews');
    }
    return data;
  };
  const writeSome = async () => {
    const commits = Array.from({ length: random.integer(1, 3) }, () => {
      const touched = new Map(COLLECTIONS.map((name) => [name, new Map(model[name])]));
      const writes = Array.from({ length: random.integer(1, 5) }, () => {
        const collection = random.pick(COLLECTIONS);
        const id = `${collection}-${random.integer(0, collection === 'flights' ? 14 : 6)}`;
        const documents = touched.get(collection)!;
        const kind = documents.has(id) ? random.pick(['put', 'merge', 'merge', 'delete'] as const) : 'put';
        const whole = newData(collection);
        const data =
          kind === 'merge' ? Object.fromEntries(Object.entries(whole).filter(() => random.chance(0.4))) : whole;
        if (kind === 'delete') documents.delete(id);
        else documents.set(id, {} as Document);
        return { collection, id, kind, data };
      });
      return store.log.append({ timeMs: Date.now(), author: { kind: 'key', name: 'test' }, writes });
    });
    for (const outcome of await Promise.all(commits)) {
      for (const { collection, id, after } of 'applied' in outcome ? outcome.applied.changes : []) {
        if (after) model[collection as Name].set(id, after);
        else model[collection as Name].delete(id);
      }
    }
  };
  const begin = (watcher: ModelWatcher<TestedQuery>) =>
    (watcher.subscription = views.watch({ query: watcher.query.form }, scope, watcher, watcher.resume, watcher.take));

  const field = (name: string, descending = false) => ({ path: [name], meta: false, descending });
  await store.indexes.create('flights', [field('balloon')], 0);
  await store.indexes.create('balloons', [field('crew')], 0);
  for (let n = 0; n < 10; n++) await writeSome();
  for (let step = 0; step < steps; step++) {
    if (watchers.length < 8 || random.chance(0.15)) {
      const query = random.chance(0.65) ? includeQuery(random, sight) : summaryQuery(random, sight);
      // Some watch what another one watches.
      const known = watchers.length > 0 && random.chance(0.35) ? random.pick(watchers).query : undefined;
      const watcher = new ModelWatcher(known ?? query);
      watchers.push(watcher);
      begin(watcher);
      if (watchers.length > 12) watchers.shift()!.subscription?.stop();
    }
    if (step === Math.floor(steps / 2)) {
      await store.indexes.create('flights', [field('balloon'), field('height', true)], 0);
      await store.indexes.create('balloons', [field('status'), field('height')], 0);
    }
    const victim = random.pick(watchers);
    const fate = random.next();
    if (fate < 0.1) victim.full = true;
    else if (fate < 0.2) {
      victim.subscription?.stop();
      victim.subscription = undefined;
    }
    await writeSome();
    for (const watcher of watchers) {
      if (random.chance(0.4)) await watcher.readOn();
      if (!watcher.subscription && random.chance(0.5)) begin(watcher);
      await watcher.settle();
      const { query } = watcher;
      const expected = comparable(query.answer(model), query);
      const described = JSON.stringify({ seed, step, sight, form: query.form });
      if (query.form.limit !== 'none') {
        const { text } = await readListing(
          context as never,
          { author: { kind: 'token', name: 'ada' }, rights: { claims: {} } } as never,
          query.form,
          'ada',
          lease,
        );
        const found = comparable((JSON.parse(text) as { documents: unknown[] }).documents, query);
        expect(
          deepEqual(found, expected),
          `a read: ${described}\n${JSON.stringify(found)}\n${JSON.stringify(expected)}`,
        ).to.equal(true);
      }
      if (!watcher.subscription || watcher.full) continue;
      const order = new Map(query.answer(model).map(({ id }, place) => [id, place]));
      const state = Object.values(watcher.state).sort((a, b) => order.get(a.id)! - order.get(b.id)!);
      const found = comparable(state, query);
      expect(
        deepEqual(found, expected),
        `a watch: ${described}\n${JSON.stringify(found)}\n${JSON.stringify(expected)}`,
      ).to.equal(true);
      if (query.form.ordered)
        expect(watcher.ids, `the order: ${described}`).to.deep.equal(query.answer(model).map(({ id }) => id));
      expect(watcher.more, described).to.equal(query.more(model));
    }
  }
  const included = watchers.filter(({ query }) => query.form.summary === undefined);
  expect(
    included.reduce((sum, { resets }) => sum + resets, 0),
    'views with includes resume without a reset',
  ).to.equal(0);
  for (const watcher of watchers) watcher.subscription?.stop();
  expect(views.size).to.equal(0);
  expect(views.dependedCollections, 'no dependency is left').to.deep.equal([]);
  views.close();
  store.close();
  remove();
}

describe('related documents and totals, and a plain model of them', () => {
  const rounds = Number(process.env.MODEL_ROUNDS ?? 3);
  const first = Number(process.env.MODEL_SEED ?? 500);
  for (let round = 0; round < rounds; round++) {
    it(`agree after every commit, under any policy, through slow readers, disconnects and resumes (seed ${first + round})`, () =>
      run(first + round, 120));
  }
});
