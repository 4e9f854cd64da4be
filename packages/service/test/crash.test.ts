import { expect } from 'chai';
import { connectionOf } from '../dist/store/index.js';
import { chmodSync, closeSync, openSync, writeFileSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { connect, ProblemError } from '@uproar/client';
import { checkStore, databaseFile, openStore, StoreError } from '@uproar/service';
import { crashRounds, powerCuts, type CrashReport } from '../../../test/crash-rounds.js';
import { Random } from '../../../test/random.js';
import { StreamReader } from '../../../test/event-stream.js';
import { ServedProcess } from '../../../test/served-process.js';
import { KEY, temporaryDirectory, until } from '../../../test/service.js';

// `npm run crash` runs more rounds of both kinds.
describe('a service that ends while it writes', () => {
  const check = ({ rounds, acknowledged, sentAgain, seq, files }: CrashReport) => {
    expect(acknowledged, 'writers got through').to.be.above(rounds);
    expect(sentAgain, 'answers were lost').to.be.above(rounds);
    expect(seq, 'each commit and each file has one seq').to.be.at.least(acknowledged + sentAgain + 1 + files);
  };

  it('keeps every acknowledged write, once and whole, when it is killed', async () => {
    check(await crashRounds(41, 3, () => undefined));
  });

  it('keeps every acknowledged write, once and whole, through power cuts', async () => {
    check(await crashRounds(42, 4, () => undefined, powerCuts(new Random(43))));
  });

  it('loses writes in a power cut if syncs are left out, so the test above can fail', async () => {
    const error = await crashRounds(42, 20, () => undefined, powerCuts(new Random(43), true)).catch(
      (reason: unknown) => reason,
    );
    expect(error).to.be.instanceOf(Error);
    expect((error as Error).message).to.match(/gone|came to|instead of starting|differ|damaged|no such/i);
  });
});

describe('a service that is asked to stop while it writes', () => {
  it('finishes accepted commits, asks watchers to reconnect, refuses the rest, and exits with 0', async function () {
    const { path, remove } = temporaryDirectory();
    // So small that the thread for checkpoints works, too.
    const served = await ServedProcess.start(path, 0, ['--write-ahead-size', '100kB']);
    const stores = Array.from({ length: 8 }, () =>
      connect(served.url, { token: KEY, backoffMs: () => 60_000, outbox: false }),
    );
    await Promise.all(stores.map((store) => store.ready()));
    const stream = await StreamReader.open(`${served.url}/v1/data/load?limit=none`);
    const watching = stores[0]!.collection('load').watch();
    let acknowledged = 0;
    const refusals = new Set<string>();
    const writers = stores.map(async (store, writer) => {
      for (let n = 0; ; n++) {
        try {
          await store.commit({
            writes: Array.from({ length: 50 }, (_, i) => ({ put: `load/${writer}-${n}-${i}`, data: { n } })),
          });
          acknowledged++;
        } catch (error) {
          refusals.add(error instanceof ProblemError ? error.problem.type : (error as Error).name);
          return;
        }
      }
    });
    await until('there is load', () => acknowledged > 40);
    expect(await served.stop('SIGTERM')).to.equal(0);
    await Promise.all(writers);
    expect(
      [...refusals].every((name) => ['/problems/stopping', 'ConnectionError'].includes(name)),
      [...refusals].join(),
    ).to.equal(true);
    await until('the stream has ended', () => stream.ended);
    expect(stream.events.at(-1)).to.deep.include({ event: 'end' });
    expect((stream.events.at(-1)!.data as { type: string }).type).to.equal('/problems/stopping');
    expect(watching.current.state).to.equal('stale');
    expect(stores[0]!.state).to.include({ name: 'offline' });
    const report = checkStore(databaseFile(path));
    expect(report.results.flatMap(({ faults }) => faults)).to.deep.equal([]);
    expect(report.documents).to.be.at.least(acknowledged * 50);
    for (const store of stores) store.close();
    remove();
  });
});

describe('opening a store', () => {
  const refusal = (directory: string): StoreError => {
    try {
      openStore(directory).close();
    } catch (error) {
      expect(error).to.be.instanceOf(StoreError);
      return error as StoreError;
    }
    throw new Error('it was opened');
  };

  it('is refused while another has it, and possible right after', () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    expect(refusal(path)).to.deep.include({ kind: 'in-use' });
    expect(refusal(path).message).to.include(`process ${process.pid}`);
    store.close();
    openStore(path).close();
    remove();
  });

  it('is refused where the file is no store, is damaged, or is of a later format', () => {
    const { path, remove } = temporaryDirectory();
    const file = join(path, 'uproar.sqlite');
    writeFileSync(file, 'this is no database, but long enough to look like one'.repeat(40));
    expect(refusal(path).kind).to.equal('damaged');
    remove();

    const other = temporaryDirectory();
    const store = openStore(other.path);
    connectionOf(store).pragma('user_version = 999');
    store.close();
    expect(refusal(other.path).kind).to.equal('newer-format');
    other.remove();

    const foreign = temporaryDirectory();
    const made = openStore(foreign.path);
    connectionOf(made).pragma('application_id = 1');
    made.close();
    expect(refusal(foreign.path).kind).to.equal('not-a-store');
    foreign.remove();
  });

  it('is checked while it is served where it is large, and then written to no more', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const text = 'x'.repeat(3000);
    const writes = Array.from({ length: 12_000 }, (_, n) => ({
      kind: 'put' as const,
      collection: 'films',
      id: `f-${n}`,
      data: { text },
    }));
    await store.log.append({ timeMs: 1, author: { kind: 'key', name: 'test' }, writes });
    store.close();
    openStore(path).close();
    const file = openSync(join(path, 'uproar.sqlite'), 'r+');
    for (let at = 4000 * 4096; at < 6000 * 4096; at += 4096) writeSync(file, Buffer.alloc(100, 0xff), 0, 100, at);
    closeSync(file);
    const damaged = openStore(path);
    await until('the damage is found', () => damaged.health.damage !== undefined);
    damaged.close();
    remove();
  });

  it('is refused where the directory cannot be made', () => {
    const { path, remove } = temporaryDirectory();
    writeFileSync(join(path, 'file'), '');
    expect(refusal(join(path, 'file', 'store')).kind).to.equal('no-access');
    if (process.getuid?.() !== 0) {
      chmodSync(path, 0o500);
      expect(refusal(join(path, 'store')).kind).to.equal('no-access');
      chmodSync(path, 0o700);
    }
    remove();
  });

  it('keeps only the hash of a key', async () => {
    const { startService } = await import('@uproar/service');
    const { path, remove } = temporaryDirectory();
    const first = await startService({ directory: path, host: '127.0.0.1', port: 0 });
    const key = first.firstKey!;
    expect(key).to.have.length.above(30);
    const authorized = (await fetch(`${first.address}/v1/collections`, { headers: { authorization: `Bearer ${key}` } }))
      .status;
    expect(authorized).to.equal(200);
    const dump = JSON.stringify(connectionOf(first.store).prepare('SELECT * FROM keys').all());
    expect(dump).not.to.include(key);
    await first.close();
    const second = await startService({ directory: path, host: '127.0.0.1', port: 0 });
    expect(second.firstKey, 'it is shown once').to.equal(undefined);
    const again = await fetch(`${second.address}/v1/collections`, { headers: { authorization: `Bearer ${key}` } });
    expect(again.status).to.equal(200);
    await second.close();
    remove();
  });

  it('is refused with a key that is too short to be safe', async () => {
    const { startService } = await import('@uproar/service');
    const { path, remove } = temporaryDirectory();
    for (const adminKey of ['short', 'with spaces in it, long', '']) {
      const error = await startService({ directory: path, host: '127.0.0.1', port: 0, adminKey }).catch(
        (reason: unknown) => reason,
      );
      expect(error).to.be.instanceOf(RangeError);
    }
    remove();
  });
});

describe('a disk that is full', () => {
  it('refuses writes with advice, keeps the existing data, and continues when there is space', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const put = (id: string, text: string) =>
      store.log.append({
        timeMs: Date.now(),
        author: { kind: 'key', name: 'test' },
        writes: [{ kind: 'put', collection: 'full', id, data: { text } }],
      });
    await put('before', 'small');
    const pages = connectionOf(store).pragma('page_count', { simple: true }) as number;
    connectionOf(store).pragma(`max_page_count = ${pages + 8}`);
    const error = (await put('large', 'x'.repeat(200_000)).catch((reason: unknown) => reason)) as {
      problem?: { type: string; detail: string };
    };
    expect(error.problem?.type).to.equal('/problems/storage-failed');
    expect(error.problem?.detail).to.include('disk is full');
    expect(store.log.seq).to.equal(1);
    expect(store.collections.get('full')?.documents).to.equal(1);
    connectionOf(store).pragma('max_page_count = 1000000');
    const outcome = await put('large', 'x'.repeat(200_000));
    expect('applied' in outcome && outcome.applied.seq).to.equal(2);
    store.close();
    remove();
  });
});
