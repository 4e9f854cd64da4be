import { expect } from 'chai';
import { deepEqual, project, type Document, type JsonValue } from '@uproar/core';
import { openStore, type Store } from '@uproar/service';
import { ModelWatcher } from '../../../test/model-watcher.js';
import { Random } from '../../../test/random.js';
import { modelData, modelQuery, type ModelQuery } from '../../../test/random-query.js';
import { temporaryDirectory } from '../../../test/service.js';
import { prepareWireQuery } from '../dist/reading/prepare-query.js';
import { LiveViews } from '../dist/live/live-views.js';
import { MetricsRecorder } from '../dist/metrics/metrics-recorder.js';
import { refills } from '../dist/metrics/refills.js';
import { EVERYBODY } from '../../../test/read-scope.js';

const COLLECTION = 'model';

/** Runs random writes against random watches, and compares all with the model after every commit. */
async function run(seed: number, steps: number, erasing = false): Promise<void> {
  const random = new Random(seed);
  const { path, remove } = temporaryDirectory();
  const store: Store = openStore(path);
  const views = new LiveViews(store, new MetricsRecorder());
  const author = { kind: 'key' as const, name: 'test' };
  const model = new Map<string, Document>();
  const watchers: ModelWatcher<ModelQuery>[] = [];
  let resets = 0;

  const writeSome = async () => {
    const commits = Array.from({ length: random.integer(1, 3) }, () => {
      const writes = [];
      const touched = new Map(model);
      for (let n = random.integer(1, 4); n > 0; n--) {
        const id = `m-${random.integer(0, 25)}`;
        const kind = touched.has(id) ? random.pick(['put', 'merge', 'merge', 'delete'] as const) : 'put';
        const write = {
          collection: COLLECTION,
          id,
          kind,
          data: kind === 'merge' ? partOf(modelData(random), random) : modelData(random),
        };
        if (kind === 'delete') touched.delete(id);
        else touched.set(id, {} as Document);
        writes.push(write);
      }
      return store.log.append({ timeMs: Date.now(), author, writes });
    });
    for (const outcome of await Promise.all(commits)) {
      for (const { id, after } of 'applied' in outcome ? outcome.applied.changes : []) {
        if (after) model.set(id, after);
        else model.delete(id);
      }
    }
  };
  /** Erases some documents with their past, of which there may be none. */
  const eraseSome = async () => {
    const ids = Array.from({ length: random.integer(1, 4) }, () => `m-${random.integer(0, 25)}`);
    const [timeMs, erasure] = [Date.now(), `e-${random.next()}`];
    const rest = { timeMs, collection: COLLECTION };
    await store.log.propose({ kind: 'erasure-begun', id: erasure, author, forgetsIds: random.chance(0.3), ...rest });
    for (let at = 0; at < ids.length;) {
      const part = { erasure, ids: ids.slice(at), changes: random.integer(1, 30), ...rest };
      at += (await store.log.propose({ kind: 'documents-erased', ...part })).done;
    }
    for (const id of ids) model.delete(id);
  };
  const begin = (watcher: ModelWatcher<ModelQuery>) =>
    (watcher.subscription = views.watch(
      { query: watcher.query.form },
      EVERYBODY,
      watcher,
      watcher.resume,
      watcher.take,
    ));

  for (let n = 0; n < 12; n++) await writeSome();
  for (let step = 0; step < steps; step++) {
    if (watchers.length < 10 || random.chance(0.1)) {
      // Some watch what another one watches.
      const known = watchers.length > 0 && random.chance(0.35) ? random.pick(watchers).query : undefined;
      const watcher = new ModelWatcher(known ?? modelQuery(random, COLLECTION));
      watchers.push(watcher);
      begin(watcher);
      if (watchers.length > 14) {
        const leaving = watchers.shift()!;
        leaving.subscription?.stop();
        resets += leaving.resets;
      }
    }
    if (step === Math.floor(steps / 3))
      await store.indexes.create(
        COLLECTION,
        [
          { path: ['status'], meta: false, descending: false },
          { path: ['altitude'], meta: false, descending: true },
        ],
        0,
      );
    if (step === Math.floor(steps / 2))
      await store.indexes.create(COLLECTION, [{ path: ['altitude'], meta: false, descending: false }], 0);
    const victim = random.pick(watchers);
    const fate = random.next();
    if (fate < 0.1) victim.full = true;
    else if (fate < 0.2) {
      victim.subscription?.stop();
      victim.subscription = undefined;
    }
    await writeSome();
    if (erasing && random.chance(0.2)) await eraseSome();
    for (const watcher of watchers) {
      if (random.chance(0.4)) await watcher.readOn();
      if (!watcher.subscription && random.chance(0.5)) begin(watcher);
      await watcher.settle();
      const { form, answer } = watcher.query;
      const expected = answer(model.values()) as { id: string }[];
      const described = JSON.stringify({ seed, step, form });
      const reading = await readOnce(store, form);
      expect(
        equal(reading, expected),
        `a read: ${described}\n${JSON.stringify(reading)}\n${JSON.stringify(expected)}`,
      ).to.equal(true);
      if (!watcher.subscription || watcher.full) continue;
      const byId = Object.fromEntries(expected.map((document) => [document.id, document]));
      expect(
        equal(watcher.state, byId),
        `a watch: ${described}\n${JSON.stringify(watcher.state)}\n${JSON.stringify(byId)}`,
      ).to.equal(true);
      if (form.ordered) expect(watcher.ids, `the order: ${described}`).to.deep.equal(expected.map(({ id }) => id));
      expect(watcher.more, described).to.equal(watcher.query.count(model.values()) > expected.length);
    }
  }
  for (const watcher of watchers) resets += watcher.resets;
  if (erasing) expect(resets, 'a resume from before an erasure begins with a reset').to.be.above(0);
  else expect(resets, 'no reset while the journal reaches back').to.equal(0);
  for (const watcher of watchers) watcher.subscription?.stop();
  expect(views.size).to.equal(0);
  views.close();
  store.close();
  remove();
}

function partOf(data: Document['data'], random: Random): Document['data'] {
  return Object.fromEntries(Object.entries(data).filter(() => random.chance(0.4)));
}

async function readOnce(store: Store, form: ModelQuery['form']): Promise<unknown[]> {
  const query = prepareWireQuery(form as never, true);
  if (query.limit === undefined) {
    const found = [];
    for await (const { document } of store.reader.stream(query)) found.push(document);
    return found.map((document) => shown(document, form));
  }
  return (await store.reader.read(query, query.limit)).found.map(({ document }) => shown(document, form));
}

function shown(document: Document, form: ModelQuery['form']): unknown {
  const query = prepareWireQuery(form as never, true);
  return query.fields ? project(document, query.fields) : document;
}

const equal = (a: unknown, b: unknown) =>
  deepEqual(JSON.parse(JSON.stringify(a)) as JsonValue, JSON.parse(JSON.stringify(b)) as JsonValue);

describe('live queries and a plain model of them', () => {
  const rounds = Number(process.env.MODEL_ROUNDS ?? 3);
  const first = Number(process.env.MODEL_SEED ?? 100);
  for (let round = 0; round < rounds; round++) {
    it(`agree after every commit, through slow readers, disconnects and resumes (seed ${first + round})`, () =>
      run(first + round, 180));
  }

  for (let round = 0; round < rounds; round++) {
    it(`agree while documents are erased with their past (seed ${first + round})`, () => run(first + round, 120, true));
  }

  it('agree while limited views are filled again from the store', async () => {
    const before = refills.count;
    await run(first, 180);
    expect(refills.count).to.be.above(before);
  });
});
