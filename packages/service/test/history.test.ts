import { expect } from 'chai';
import { spawnSync } from 'node:child_process';
import { Readable } from 'node:stream';
import { fileURLToPath } from 'node:url';
import { prepareQuery, type Commit, type Document, type JsonObject, type Rights, type Write } from '@uproar/core';
import { openStore, type Store } from '@uproar/service';
import type { CommitOutcome } from '../dist/state/outcomes.js';
import { CommitQueue } from '../dist/log/commit-queue.js';
import { JournalRetention } from '../dist/store/index.js';
import { expireOutcomes, IDEMPOTENCY_MS, logSize } from '../dist/store/maintenance.js';
import { ProblemError } from '@uproar/protocol';
import { Random } from '../../../test/random.js';
import { temporaryDirectory } from '../../../test/service.js';

const author = { kind: 'key' as const, name: 'test' };

/** Later than any clock, since the time of records never goes back. */
const START_MS = 4_000_000_000_000;

/** A store in a directory of its own, closed and removed after the test. */
function useStores(): () => Store {
  const open: (() => void)[] = [];
  afterEach(() => {
    for (const close of open.splice(0)) close();
  });
  return () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    open.push(() => {
      store.close();
      remove();
    });
    return store;
  };
}

/** The policies that take effect one after another. Of 'b', a field is concealed from some. */
const POLICIES = [
  'collections: { a: { read: true, create: true, update: true, delete: true } }',
  `
collections:
  a: { read: true, create: true, update: "n >= was('n')", delete: "claim('role') = 'director'" }
  b:
    read: "n IS NULL OR n < 120 OR claim('role') = 'director'"
    create: true
    update: true
    conceal: [{ field: secret, unless: "claim('role') = 'director'" }]
  files: { read: true, create: true, update: "claim('role') = 'director'" }`,
];

/** The schemas that take effect one after another. */
const SCHEMAS: JsonObject[] = [
  { properties: { n: { type: 'integer' }, list: { type: 'array', maxItems: 2 } } },
  { properties: { n: { type: 'integer', minimum: 150 } } },
];

const CONTENTS = ['emerald', 'amber', 'night'].map((text) => Buffer.from(text.repeat(50)));

/** The rights of a caller: an admin key, a key for one collection, or the claims of a token. */
function randomRights(random: Random): Rights | undefined {
  return random.pick<Rights | undefined>([
    undefined,
    { scope: 'write', collections: ['a'] },
    { claims: { sub: 'ada', role: 'crew' } },
    { claims: { sub: 'bo', role: 'director' } },
  ]);
}

/** A random upload, or a write that only claims to have content. */
function randomFile(random: Random, hashes: readonly string[]): Write {
  const sha256 = random.pick(hashes);
  const size = CONTENTS[hashes.indexOf(sha256)]!.length;
  const base = { collection: 'files', id: `f-${random.integer(0, 3)}` };
  if (random.chance(0.2)) return { ...base, kind: 'delete' };
  return {
    ...base,
    kind: 'put',
    data: { name: 'picture', size, sha256 },
    ...(random.chance(0.7) ? { content: sha256 } : {}),
  };
}

/** What changes besides commits: the policy or the schema of a collection. */
type Change = { policy: number } | { schema: number; collection: string; mode: 'warn' | 'enforce' };

/** A store with the contents of the files that its commits describe. */
async function prepare(store: Store): Promise<{ change: (change: Change) => Promise<unknown>; hashes: string[] }> {
  const hashes: string[] = [];
  for (const content of CONTENTS) {
    hashes.push((await store.contents.receive(Readable.from([content]), content.length)).sha256);
  }
  return {
    hashes,
    change: (change) =>
      'policy' in change
        ? store.log.propose({ kind: 'policy', timeMs: 1, text: POLICIES[change.policy]!, author })
        : store.log.propose({
            kind: 'schema',
            timeMs: 1,
            collection: change.collection,
            mode: change.mode,
            schema: SCHEMAS[change.schema]!,
            author,
          }),
  };
}

/** A random commit, of writes of every kind; many of them cannot be applied. */
function randomCommit(random: Random, number: number, hashes: readonly string[] = []): Commit {
  const writes = Array.from({ length: random.integer(1, 4) }, (): Write => {
    if (hashes.length > 0 && random.chance(0.15)) return randomFile(random, hashes);
    const base = { collection: random.pick(['a', 'b']), id: `d-${random.integer(0, 9)}` };
    const condition = random.chance(0.2) ? { versionIn: [random.integer(0, number)] } : undefined;
    switch (random.integer(0, 6)) {
      case 0:
      case 1:
        return { ...base, condition, kind: 'put', data: { ...random.object(2), n: number, list: [1], secret: number } };
      case 2:
        return { ...base, kind: 'create', data: { n: 0 }, keepExisting: random.chance(0.5) };
      case 3:
        return { ...base, condition, kind: 'merge', data: random.object(2) };
      case 4:
        return { ...base, kind: 'patch', ops: [{ op: 'add', path: '/patched', value: random.value(2) }] };
      case 5: {
        const by = { '/n': { add: 1 }, '/seen': { now: true as const }, '/list': { with: [random.value(1)] } };
        return { ...base, kind: 'adjust', by };
      }
      default:
        return { ...base, condition, kind: 'delete' };
    }
  });
  const id = random.chance(0.3) ? `commit-${random.integer(0, 40)}` : undefined;
  const reads = random.chance(0.2) ? [{ collection: 'a', id: 'd-1', version: random.integer(0, number) }] : undefined;
  const rights = hashes.length > 0 ? randomRights(random) : undefined;
  return {
    id,
    digest: id && JSON.stringify(writes),
    reads,
    timeMs: START_MS + number * 7,
    author,
    ...(rights ? { rights } : {}),
    writes,
  };
}

function dump(store: Store): string {
  const tables = ['documents', 'commits', 'changes', 'outcomes', 'collections'].map(
    (table) => `SELECT * FROM ${table}`,
  );
  // When an unused content was received is no part of the history.
  const queries = [...tables, 'SELECT sha256, size, uses FROM contents ORDER BY sha256'];
  return JSON.stringify(
    queries.map((query) => store.reads.statement(query).all()),
    null,
    1,
  );
}

describe('applying commits', () => {
  const newStore = useStores();

  it('depends on the commits and the store alone: replayed elsewhere, every byte is the same (seeds 1 to 5)', async () => {
    const refusals = new Set<string>();
    for (let seed = 1; seed <= 5; seed++) {
      const random = new Random(seed);
      const original = newStore();
      const { change, hashes } = await prepare(original);
      const sent: ({ commit: string } | { change: Change })[] = [];
      const outcomes: CommitOutcome[] = [];
      const changeAt = new Map<number, Change>([
        [0, { policy: 0 }],
        [60, { policy: 1 }],
        [90, { schema: 0, collection: 'a', mode: 'enforce' }],
        [120, { schema: 1, collection: 'b', mode: 'warn' }],
        [150, { policy: 0 }],
      ]);
      for (let n = 0; n < 200; n++) {
        const next = changeAt.get(n);
        if (next) {
          await change(next);
          sent.push({ change: next });
        }
        const group = Array.from({ length: random.integer(1, 4) }, () => randomCommit(random, n, hashes));
        sent.push(...group.map((commit) => ({ commit: JSON.stringify(commit) })));
        outcomes.push(...(await Promise.all(group.map((commit) => original.log.append(commit)))));
      }
      for (const outcome of outcomes) if ('refused' in outcome) refusals.add(outcome.refused.kind);
      const applied = outcomes.filter((outcome) => 'applied' in outcome).length;
      expect(applied, 'commits that were applied').to.be.within(30, sent.length - 100);
      const replayed = newStore();
      const replay = await prepare(replayed);
      for (const step of sent) {
        if ('change' in step) await replay.change(step.change);
        else await replayed.log.append(JSON.parse(step.commit) as Commit);
      }
      expect(dump(replayed) === dump(original), `every commit sent, seed ${seed}`).to.equal(true);

      const fromJournal = newStore();
      await prepare(fromJournal);
      for (const { id, timeMs, author, changes } of original.journal.after(0, 100_000)) {
        const writes = changes.map(({ collection, id, after }): Write =>
          after ? { kind: 'put', collection, id, data: after.data } : { kind: 'delete', collection, id },
        );
        await fromJournal.log.append({ timeMs, author, writes, ...(id === undefined ? {} : { digest: id }) });
      }
      const documents = (store: Store) =>
        store.collections
          .list()
          .map(({ name, number }) => [
            name,
            store.documents.list(number, '', 1000).map(({ number: _, ...rest }) => rest),
          ]);
      expect(documents(fromJournal), `the journal, seed ${seed}`).to.deep.equal(documents(original));
    }
    expect([...refusals], 'rights, schemas and files refuse some').to.include.members([
      'not-allowed',
      'schema-violation',
      'bad-document',
    ]);
  });

  it('returns every document at every seq, like a plain model, also after the journal was truncated', async () => {
    const random = new Random(77);
    const store = newStore();
    const model = new Map<string, Document>();
    const states: Map<string, Document>[] = [new Map()];
    while (states.length < 150) {
      const outcome = await store.log.append(randomCommit(random, states.length));
      if (!('applied' in outcome)) continue;
      for (const { collection, id, after } of outcome.applied.changes) {
        if (after) model.set(`${collection}/${id}`, after);
        else model.delete(`${collection}/${id}`);
      }
      states.push(new Map(model));
    }
    const compare = (from: number) => {
      for (let seq = from; seq < states.length; seq++) {
        for (const { name, number } of store.collections.list()) {
          for (let n = 0; n < 10; n++) {
            const found = store.journal.documentAt(number, `d-${n}`, seq, () => states.at(-1)!.get(`${name}/d-${n}`));
            expect(found, `${name}/d-${n} at ${seq}`).to.deep.equal(states[seq]!.get(`${name}/d-${n}`));
          }
        }
      }
    };
    compare(0);
    const retention = new JournalRetention(store.reads, store.log, store.journal, { maxAgeMs: 50 * 7 });
    let steps = 0;
    while (await retention.step(START_MS + 150 * 7)) steps++;
    expect(steps).to.be.above(1);
    const { first } = store.journal.bounds();
    expect(first).to.be.within(90, 130);
    compare(first - 1);
    const past = store.journal.ofDocument(store.collections.get('a')!.number, 'd-1', { before: 1e9 }, 500);
    expect(Math.min(...past.map(({ seq }) => seq))).to.be.at.least(first);
  });

  it('never lets the time of commits go back when the clock does', async () => {
    const store = newStore();
    const put = (timeMs: number, id: string) =>
      store.log.append({
        timeMs,
        author,
        id: `c-${id}`,
        digest: id,
        writes: [{ kind: 'put', collection: 'a', id, data: {} }],
      });
    await put(5_000_000, 'x');
    await put(1_000_000, 'y');
    await put(1_000_000, 'x');
    expect(store.log.seq).to.equal(3 - 1);
    expect(store.journal.after(0, 9).map(({ seq, timeMs }) => [seq, timeMs])).to.deep.equal([
      [1, 5_000_000],
      [2, 5_000_000],
    ]);
    const retention = new JournalRetention(store.reads, store.log, store.journal, { maxAgeMs: 10 });
    while (await retention.step(1_000_100));
    expect(store.journal.bounds()).to.deep.equal({ first: 1, last: 2 });
  });
});

describe('the care of a store', () => {
  const newStore = useStores();
  const put = (id: string, data: Document['data']): Write => ({ kind: 'put', collection: 'a', id, data });

  it('cuts the journal in small steps, and knows its size exactly', async () => {
    const store = newStore();
    for (let n = 0; n < 8; n++) {
      const writes = Array.from({ length: 700 }, (_, i) => put(`d-${i}`, { n, text: 'ß'.repeat(20) }));
      await store.log.append({ timeMs: n, author, writes });
    }
    const measured = () => {
      const rows = store.reads
        .statement<[], { before: string | null; after: string | null }>('SELECT before, after FROM changes')
        .all();
      return rows.reduce(
        (sum, { before, after }) => sum + Buffer.byteLength(before ?? '') + Buffer.byteLength(after ?? ''),
        0,
      );
    };
    expect(store.journal.sizeBytes).to.equal(measured());
    const count = () => store.reads.values<[], number>('SELECT COUNT(*) FROM changes').get()!;
    const retention = new JournalRetention(store.reads, store.log, store.journal, {
      maxSizeBytes: store.journal.sizeBytes / 4,
    });
    let before = count();
    while (await retention.step(0)) {
      expect(before - count(), 'swept out in one step').to.be.at.most(1000);
      before = count();
      expect(store.journal.sizeBytes).to.equal(measured());
    }
    const { first } = store.journal.bounds();
    expect(first).to.be.within(6, 8);
    expect(store.journal.after(first - 1, 100).map(({ changes }) => changes.length)).to.deep.equal(
      Array.from({ length: 9 - first }, () => 700),
    );
  });

  it('ends quietly when the store is closed in the middle of it', async () => {
    const { path, remove } = temporaryDirectory();
    const filled = openStore(path);
    for (let n = 0; n < 30; n++) {
      const writes = Array.from({ length: 100 }, (_, i) => put(`d-${i}`, { n, text: 'x'.repeat(100) }));
      await filled.log.append({ timeMs: n, author, writes });
    }
    await filled.close();
    for (const turns of [0, 1, 2, 3]) {
      const store = openStore(path, { journal: { maxSizeBytes: 1 } });
      for (let n = 0; n < turns; n++) await new Promise((resolve) => setImmediate(resolve));
      await store.close();
      // An error in what goes on after this would end the process.
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
    remove();
  });

  it('keeps the process until the threads of the store have ended', () => {
    const { path, remove } = temporaryDirectory();
    const program = `
      import { openStore } from '@uproar/service';
      const busy = setInterval(() => undefined, 1000);
      const store = openStore(${JSON.stringify(path)});
      await store.checkpoints.reset();
      clearInterval(busy);
      await store.close();
      process.stdout.write('closed');`;
    const cwd = fileURLToPath(new URL('..', import.meta.url));
    const options = { cwd, encoding: 'utf8' as const, env: { PATH: process.env.PATH } };
    const { status, stdout } = spawnSync(process.execPath, ['--input-type=module', '-e', program], options);
    expect([status, stdout]).to.deep.equal([0, 'closed']);
    remove();
  });

  it('forgets the outcomes of commits a day after, not before', async () => {
    const store = newStore();
    const commit = (timeMs: number, id: string) =>
      store.log.append({ timeMs, author, id, digest: 'same', writes: [put('x', {})] });
    await commit(1000, 'old');
    await commit(IDEMPOTENCY_MS, 'new');
    await expireOutcomes(store.reads, store.log, 1000 + IDEMPOTENCY_MS);
    expect(await commit(IDEMPOTENCY_MS + 1000, 'old'), 'a day old').to.have.property('repeated');
    await expireOutcomes(store.reads, store.log, 1001 + IDEMPOTENCY_MS);
    expect(await commit(IDEMPOTENCY_MS + 1001, 'old'), 'older').to.have.property('applied');
    expect(await commit(IDEMPOTENCY_MS + 1001, 'new')).to.have.property('repeated');
  });

  it('brings the write-ahead log back to nothing by breaking off a read that holds on to an old state', async function () {
    const store = newStore();
    const fill = (n: number) =>
      store.log.append({
        timeMs: n,
        author,
        writes: Array.from({ length: 100 }, (_, i) => put(`d-${i}`, { n, text: 'x'.repeat(2000) })),
      });
    for (let n = 0; n < 3; n++) await fill(n);
    const reading = store.reader.stream(prepareQuery({ from: 'a', limit: 'none' as never }));
    expect((await reading.next()).done).to.equal(false);
    for (let n = 0; n < 80; n++) await fill(n);
    const file = `${store.directory}/uproar.sqlite`;
    const grown = logSize(file);
    expect(grown, 'grown while the read holds on').to.be.above(15_000_000);
    await store.reader.interrupt(0, () => store.checkpoints.reset());
    expect(logSize(file), 'only what was written to begin it anew').to.be.below(100_000);
    const error = await reading.next().catch((reason: unknown) => reason);
    expect(error).to.be.instanceOf(ProblemError);
    expect((error as ProblemError).problem.type).to.equal('/problems/read-aborted');
    const again: string[] = [];
    for await (const { stored } of store.reader.stream(prepareQuery({ from: 'a', limit: 'none' as never })))
      again.push(stored.id);
    expect(again, 'the next read is whole').to.have.length(100);
  });
});

describe('the queue of commits', () => {
  const item = (name: string, weight = 1) => ({ name, weight, sizeBytes: weight * 10 });

  it('takes from each sender in turn and keeps the order of each', () => {
    const queue = new CommitQueue<ReturnType<typeof item>>();
    const [one, two] = [{}, {}];
    for (let n = 0; n < 4; n++) queue.push(item(`large-${n}`, 450), one);
    for (let n = 0; n < 3; n++) queue.push(item(`small-${n}`), two);
    expect(queue.length).to.equal(7);
    const groups: string[][] = [];
    while (queue.length > 0) groups.push([...queue.take()].map(({ name }) => name));
    expect(groups).to.deep.equal([['large-0', 'small-0', 'small-1', 'small-2'], ['large-1'], ['large-2'], ['large-3']]);
    expect(queue.sizeBytes).to.equal(0);
    expect([...queue.take()]).to.deep.equal([]);
  });

  it('takes a commit larger than a group by itself, and loses none (seeds 1 to 50)', () => {
    for (let seed = 1; seed <= 50; seed++) {
      const random = new Random(seed);
      const queue = new CommitQueue<ReturnType<typeof item>>();
      const lanes = Array.from({ length: 5 }, () => ({}));
      const taken: string[] = [];
      let pushed = 0;
      for (let step = 0; step < 200; step++) {
        if (random.chance(0.6))
          queue.push(item(`${random.integer(0, 4)}:${pushed++}`, random.pick([1, 1, 1, 300, 5000])), lanes[0]!);
        else if (random.chance(0.5)) {
          const lane = random.integer(0, 4);
          queue.push(item(`${lane}:${pushed++}`, random.pick([1, 1, 400, 2000])), lanes[lane]!);
        } else {
          const group = [...queue.take()];
          const weight = group.reduce((sum, each) => sum + each.weight, 0);
          expect(group.length <= 1 || weight <= 500, `seed ${seed}`).to.equal(true);
          taken.push(...group.map(({ name }) => name));
        }
      }
      while (queue.length > 0) taken.push(...[...queue.take()].map(({ name }) => name));
      expect(taken).to.have.length(pushed);
      expect(new Set(taken).size).to.equal(pushed);
    }
  });
});
