import { expect } from 'chai';
import { spawn, type ChildProcess } from 'node:child_process';
import { chmodSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect, type Document, type Store } from '@uproar/client';
import { openStore, StoreError } from '@uproar/service';
import { KEY, temporaryDirectory, until } from '../../../test/service.js';
import { Random } from '../../../test/random.js';

const MAIN = new URL('../../cli/dist/main.js', import.meta.url).pathname;

async function serve(directory: string, port = 0): Promise<{ process: ChildProcess; url: string }> {
  const child = spawn(process.execPath, [MAIN, 'serve', '--data', directory, '--port', String(port)], {
    env: { ...process.env, UPROAR_ADMIN_KEY: KEY, NODE_OPTIONS: '', NO_COLOR: '1' },
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  let said = '';
  child.stdout.on('data', (text) => (said += String(text)));
  await until('the service is up', () => said.includes('/console/'));
  return { process: child, url: /http:\/\/[\d.:]+/.exec(said)![0] };
}

const killed = (child: ChildProcess, signal: NodeJS.Signals) =>
  new Promise<number | null>((resolve) => {
    child.once('exit', (code) => resolve(code));
    child.kill(signal);
  });

describe('a service that is killed while it writes', () => {
  it('has every acknowledged write afterwards, none by half, and its watchers end in the right state', async function () {
    this.timeout(60_000);
    const { path, remove } = temporaryDirectory();
    const random = new Random(41);
    const stores: Store[] = [];
    let running = await serve(path);
    const { url } = running;
    const port = Number(new URL(url).port);
    try {
      const watcher = connect(url, { token: KEY, backoffMs: () => 50 });
      stores.push(watcher);
      const watch = watcher.collection('pairs').watch();
      const acknowledged = new Map<string, number>();
      for (let round = 0; round < 4; round++) {
        let stop = false;
        const writers = Array.from({ length: 8 }, async (_, writer) => {
          const store = connect(url, { token: KEY, backoffMs: () => 50 });
          stores.push(store);
          for (let n = 0; !stop; n++) {
            const value = round * 1_000_000 + n;
            try {
              await store.commit({
                writes: ['left', 'right'].map((side) => ({ put: `pairs/${writer}-${side}`, data: { value } })),
              });
              acknowledged.set(String(writer), value);
            } catch {
              // Cut off: whether it was applied is not known, and need not be.
              return;
            }
          }
        });
        await new Promise((resolve) => setTimeout(resolve, random.integer(150, 500)));
        await killed(running.process, 'SIGKILL');
        stop = true;
        running = await serve(path, port);
        for (const store of stores.splice(1)) store.close();
        await Promise.all(writers);
        const reader = connect(url, { token: KEY });
        const { documents: listed, seq } = await reader.collection('pairs').list({ limit: 100 });
        const documents = listed as Document[];
        reader.close();
        for (const [writer, value] of acknowledged) {
          const [left, right] = ['left', 'right'].map((side) =>
            documents.find(({ id }) => id === `${writer}-${side}`)!,
          );
          expect(left!.data.value, 'a commit is whole').to.equal(right!.data.value);
          expect(Number(left!.data.value), 'an acknowledged write is there').to.be.at.least(value);
        }
        await until(
          'the watcher has caught up',
          () =>
            watch.current.state === 'live' && watch.current.seq >= Math.max(...documents.map(({ version }) => version)),
        );
        expect(watch.current.documents).to.deep.equal(documents);
        expect(seq).to.be.at.least(watch.current.seq);
      }
      expect(
        [...acknowledged.values()].every((value) => value >= 3_000_000),
        'writers got through in each round',
      ).to.equal(true);
      for (const store of stores) store.close();
      expect(await killed(running.process, 'SIGTERM'), 'it stops in good order when asked').to.equal(0);
      const store = openStore(path);
      const entries = store.log.after(0, 1_000_000);
      expect(
        entries.map(({ seq }) => seq),
        'the journal has no gap',
      ).to.deep.equal(entries.map((_, index) => index + 1));
      expect(entries.every(({ changes }) => changes.length === 2)).to.equal(true);
      store.close();
    } finally {
      running.process.kill('SIGKILL');
      for (const store of stores) store.close();
      remove();
    }
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
    store.database.pragma('user_version = 999');
    store.close();
    expect(refusal(other.path).kind).to.equal('newer-format');
    other.remove();

    const foreign = temporaryDirectory();
    const made = openStore(foreign.path);
    made.database.pragma('application_id = 1');
    made.close();
    expect(refusal(foreign.path).kind).to.equal('not-a-store');
    foreign.remove();
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
    const dump = JSON.stringify(first.store.database.prepare('SELECT * FROM keys').all());
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
      if (adminKey === '') continue;
      const error = await startService({ directory: path, host: '127.0.0.1', port: 0, adminKey }).catch(
        (reason: unknown) => reason,
      );
      expect(error).to.be.instanceOf(RangeError);
    }
    remove();
  });
});

describe('a disk that is full', () => {
  it('refuses writes with advice, keeps what was there, and goes on when there is room', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const put = (id: string, text: string) =>
      store.log.append({
        timeMs: Date.now(),
        author: { kind: 'key', name: 'test' },
        writes: [{ kind: 'put', collection: 'full', id, data: { text } }],
      });
    await put('before', 'small');
    const pages = store.database.pragma('page_count', { simple: true }) as number;
    store.database.pragma(`max_page_count = ${pages + 8}`);
    const error = (await put('large', 'x'.repeat(200_000)).catch((reason: unknown) => reason)) as {
      problem?: { type: string; detail: string };
    };
    expect(error.problem?.type).to.equal('/problems/storage-failed');
    expect(error.problem?.detail).to.include('disk is full');
    expect(store.log.seq).to.equal(1);
    expect(store.collections.get('full')?.documents).to.equal(1);
    store.database.pragma('max_page_count = 1000000');
    const outcome = await put('large', 'x'.repeat(200_000));
    expect('applied' in outcome && outcome.applied.seq).to.equal(2);
    store.close();
    remove();
  });
});
