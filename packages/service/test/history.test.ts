import { expect } from 'chai';
import { spawnSync } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { keepEnd, prepareQuery, readEnd, type Document, type Write } from '@uproar/core';
import { openStore, type Store } from '@uproar/service';
import type { OtherRecord } from '../dist/log/log.js';
import type { LogRecord } from '../dist/state/records.js';
import { CommitQueue } from '../dist/log/commit-queue.js';
import { JournalRetention } from '../dist/store/index.js';
import { expireOutcomes, IDEMPOTENCY_MS, logSize } from '../dist/store/maintenance.js';
import { ProblemError } from '@uproar/protocol';
import { Random } from '../../../test/random.js';
import { temporaryDirectory } from '../../../test/service.js';
import { RandomRecords } from './random-records.js';

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
    // Documents whose end has passed stay: nothing but the history changes the store.
    const store = openStore(path, { isInCharge: () => false });
    open.push(() => {
      store.close();
      remove();
    });
    return store;
  };
}

/** The kinds of records that decide whether a commit is applied. */
const LEADS_TO_DOCUMENTS = new Set<LogRecord['kind']>(['policy', 'schema', 'schema-removed', 'blob-received']);

/** Proposes a record. A refusal is one of its outcomes. */
async function proposeTo(store: Store, record: OtherRecord): Promise<void> {
  await store.log.propose(record).catch((error: unknown) => {
    if (!(error instanceof ProblemError)) throw error;
  });
}

function documentsOf(store: Store) {
  return store.collections
    .list()
    .map(({ name, number }) => [name, store.documents.list(number, '', 1000).map(({ number: _, ...rest }) => rest)]);
}

describe('applying commits', () => {
  const newStore = useStores();

  it('is recorded completely: the journal leads to the same documents (seeds 1 to 3)', async () => {
    for (let seed = 1; seed <= 3; seed++) {
      const records = new RandomRecords(new Random(seed));
      const [original, rebuilt] = [newStore(), newStore()];
      for (let n = 0; n < 500; n++) {
        const record = records.next();
        if (record.kind === 'commit') await original.log.append(record.commit);
        else if (LEADS_TO_DOCUMENTS.has(record.kind)) await proposeTo(original, record);
      }
      expect(original.log.seq, 'commits that were applied').to.be.above(30);
      for (const sha256 of records.hashes) {
        await rebuilt.log.propose({ kind: 'blob-received', timeMs: 1, sha256, sizeBytes: 10 });
      }
      for (const { timeMs, author, changes } of original.journal.after(0, 100_000)) {
        const writes = changes.map(({ collection, id, after }): Write =>
          after
            ? { kind: 'put', collection, id, data: after.data, ...readEnd(keepEnd(after)) }
            : { kind: 'delete', collection, id },
        );
        await rebuilt.log.append({ timeMs, author, writes });
      }
      expect(documentsOf(rebuilt), `seed ${seed}`).to.deep.equal(documentsOf(original));
    }
  });

  it('returns every document at every seq, like a plain model, also after the journal was truncated', async () => {
    const records = new RandomRecords(new Random(77));
    const store = newStore();
    const model = new Map<string, Document>();
    const states: Map<string, Document>[] = [new Map()];
    while (states.length < 150) {
      const outcome = await store.log.append(records.commit(states.length, START_MS + states.length * 7));
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
