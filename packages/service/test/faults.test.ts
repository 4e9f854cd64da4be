import { expect } from 'chai';
import { closeSync, openSync, readFileSync, statSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import Database from 'better-sqlite3';
import { Run } from '../../../test/command-run.js';
import { ServedProcess } from '../../../test/served-process.js';
import { KEY, temporaryDirectory, TestService, until } from '../../../test/service.js';
import { Random } from '../../../test/random.js';
import { connectionOf, openStore } from '../dist/store/index.js';

const PAGE = 4096;

/** Overwrites one page of a store's file. */
function damage(directory: string, page: number): void {
  const file = openSync(join(directory, 'uproar.sqlite'), 'r+');
  writeSync(file, Buffer.alloc(PAGE, 0xa5), 0, PAGE, page * PAGE);
  closeSync(file);
}

/** A directory with a store of some thousand documents that is not open. */
async function filledDirectory(): Promise<ReturnType<typeof temporaryDirectory>> {
  const directory = temporaryDirectory();
  const store = openStore(directory.path);
  for (let part = 0; part < 4; part++) {
    await store.log.append({
      timeMs: 1,
      author: { kind: 'key', name: 'test' },
      writes: Array.from({ length: 500 }, (_, n) => ({
        kind: 'put' as const,
        collection: 'balloons',
        id: `b-${part}-${n}`,
        data: { n, name: `Balloon ${n}`, note: 'x'.repeat(200) },
      })),
    });
  }
  store.close();
  return directory;
}

describe('a damaged store', () => {
  it('is never served as if it were sound (12 pages, overwritten one at a time)', async () => {
    const random = new Random(12);
    const sound = await filledDirectory();
    const original = readFileSync(join(sound.path, 'uproar.sqlite'));
    const pages = statSync(join(sound.path, 'uproar.sqlite')).size / PAGE;
    for (let round = 0; round < 12; round++) {
      const { path, remove } = temporaryDirectory();
      const copy = openSync(join(path, 'uproar.sqlite'), 'w');
      writeSync(copy, original);
      closeSync(copy);
      damage(path, random.integer(1, pages - 1));
      const service = await TestService.start({ directory: path }).catch((error: Error & { kind?: string }) => error);
      if (service instanceof Error) expect(service).to.include({ name: 'StoreError', kind: 'damaged' });
      else {
        // A page that holds nothing any more may be anything.
        expect((await service.request('GET', '/v1/data/balloons?limit=10000')).status).to.equal(200);
        await service.stop();
      }
      remove();
    }
    sound.remove();
  });

  it('ends "uproar check" and "uproar serve" with the documented code', async () => {
    const { path, remove } = await filledDirectory();
    damage(path, 0);
    for (const args of [
      ['check', path],
      ['serve', '--data', path, '--port', '0'],
    ]) {
      const { code, err } = await new Run(args, {}).ended;
      expect(code, err).to.equal(7);
      expect(err).to.include('uproar.sqlite');
    }
    remove();
  });

  it('takes no more writes once damage shows, and says what to do', async () => {
    const service = await TestService.start();
    await service.request('PUT', '/v1/data/balloons/b-1', { n: 1 });
    const database = new Database(join(service.directory, 'uproar.sqlite'));
    database.prepare("UPDATE documents SET data = '{\"n\":' WHERE id = 'b-1'").run();
    database.close();
    // A store reads what it has published; the next commit publishes the change from outside, too.
    await service.request('PUT', '/v1/data/balloons/b-9', { n: 9 });
    const read = await service.request('GET', '/v1/data/balloons?where=n=1');
    expect(read.status, read.text).to.equal(503);
    expect(read.json).to.include({ type: '/problems/storage-failed' });
    expect(read.json.detail).to.include('restore a backup');
    const write = await service.request('PUT', '/v1/data/balloons/b-2', { n: 2 });
    expect(write.json.type).to.equal('/problems/storage-failed');
    expect((await service.as(null)('GET', '/readyz')).json.reasons).to.deep.equal(['storage-failed']);
    await service.stop();
  });
});

describe('a disk that is full or fails', () => {
  it('is reported as such by everything that writes, and by the readiness check', async () => {
    const service = await TestService.start({ accounts: 'open' });
    await service.request('PUT', '/v1/data/files/picture', { name: 'p.txt', type: 'text/plain' });
    const database = connectionOf(service.service.store);
    database.pragma('query_only = on');
    const attempts: [string, string, unknown, Record<string, string>?][] = [
      ['PUT', '/v1/data/balloons/b-1', { n: 1 }],
      ['POST', '/v1/keys', { name: 'gate', scope: 'read' }],
      ['POST', '/v1/accounts', { name: 'ada', password: 'a-password-of-ada' }],
      ['POST', '/v1/indexes', { collection: 'balloons', fields: 'n' }],
      ['PUT', '/v1/schemas/balloons', { mode: 'warn', schema: { type: 'object' } }],
      ['PUT', '/v1/policy', { text: 'anonymous: true' }],
      ['PUT', '/v1/files/picture/content', 'words', { 'content-type': 'text/plain' }],
    ];
    for (const [method, path, body, headers] of attempts) {
      const answer = await service.request(method, path, body, headers);
      expect(answer.json?.type, `${method} ${path}: ${answer.text}`).to.equal('/problems/storage-failed');
    }
    expect((await service.as(null)('GET', '/readyz')).status).to.equal(503);
    database.pragma('query_only = off');
    expect((await service.as(null)('GET', '/readyz')).status).to.equal(200);
    await service.stop();
  });

  it('stays not ready while only small writes fit', async () => {
    const service = await TestService.start();
    const database = connectionOf(service.service.store);
    await service.request('PUT', '/v1/data/balloons/b-1', { n: 1 });
    const pages = database.pragma('page_count', { simple: true }) as number;
    database.pragma(`max_page_count = ${pages + 20}`);
    const large = await service.request('PUT', '/v1/data/balloons/b-2', { text: 'x'.repeat(500_000) });
    expect(large.json.type).to.equal('/problems/storage-failed');
    expect((await service.as(null)('GET', '/readyz')).status).to.equal(503);
    database.pragma('max_page_count = 1000000');
    expect((await service.as(null)('GET', '/readyz')).status).to.equal(200);
    await service.stop();
  });

  it('leaves no index half made', async () => {
    const service = await TestService.start();
    await service.request('POST', '/v1/commits', {
      writes: Array.from({ length: 2000 }, (_, n) => ({ put: `balloons/b-${n}`, data: { n } })),
    });
    const database = connectionOf(service.service.store);
    const making = service.request('POST', '/v1/indexes', { collection: 'balloons', fields: 'n' });
    await until(
      'it is being made',
      () => (database.prepare('SELECT COUNT(*) FROM indexes').pluck().get() as number) === 1,
    );
    database.pragma('query_only = on');
    const failed = await making;
    database.pragma('query_only = off');
    if (failed.status === 201) return service.stop();
    expect(failed.json.type).to.equal('/problems/storage-failed');
    const again = await service.request('POST', '/v1/indexes', { collection: 'balloons', fields: 'n' });
    expect(again.status).to.equal(201);
    const explained = await service.request('POST', '/v1/explain', { from: 'balloons', where: 'n = 7' });
    expect(explained.json).to.include({ scan: 'index', documentsRead: 1 });
    await service.stop();
  });
});

describe('what goes wrong within the service', () => {
  it('keeps no commit from being answered that is on disk', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const faults: unknown[] = [];
    store.log.onListenerFault = (error) => faults.push(error);
    store.log.onApplied(() => {
      throw new Error('a listener fails');
    });
    const author = { kind: 'key' as const, name: 'test' };
    const outcome = await store.log.append({
      timeMs: 1,
      author,
      writes: [{ kind: 'put', collection: 'a', id: 'b', data: {} }],
    });
    expect(outcome).to.have.nested.property('applied.seq', 1);
    expect(faults).to.have.length(1);
    store.close();
    remove();
  });

  it('keeps generated ids in order when the clock goes back over a restart', async () => {
    const { path, remove } = temporaryDirectory();
    const realNow = Date.now;
    const service = await TestService.start({ directory: path });
    const create = async (from: TestService) => (await from.request('POST', '/v1/data/balloons', {})).json.id as string;
    const ids = [await create(service)];
    await service.stop();
    try {
      Date.now = () => realNow() - 3_600_000;
      const later = await TestService.start({ directory: path });
      ids.push(await create(later), await create(later));
      await later.stop();
      const latest = await TestService.start({ directory: path });
      ids.push(await create(latest));
      await latest.stop();
    } finally {
      Date.now = realNow;
    }
    expect([...ids].sort()).to.deep.equal(ids);
    remove();
  });

  it('does not keep it from ending soon, while large watches are being sent', async () => {
    const { path, remove } = temporaryDirectory();
    const served = await ServedProcess.start(path);
    const headers = { authorization: `Bearer ${KEY}`, 'content-type': 'application/json' };
    for (let part = 0; part < 6; part++) {
      const writes = Array.from({ length: 10_000 }, (_, n) => ({
        put: `balloons/b-${part}-${n}`,
        data: { n, name: `Balloon ${n}`, note: 'made for a long list' },
      }));
      await fetch(`${served.url}/v1/commits`, { method: 'POST', headers, body: JSON.stringify({ writes }) });
    }
    const abort = new AbortController();
    for (let n = 0; n < 50; n++) {
      void fetch(`${served.url}/v1/data/balloons?limit=none&where=n>=${-n - 1}`, {
        headers: { ...headers, accept: 'text/event-stream' },
        signal: abort.signal,
      })
        .then((response) => response.text())
        .catch(() => undefined);
    }
    await new Promise((resolve) => setTimeout(resolve, 1500));
    const started = Date.now();
    await served.stop('SIGTERM');
    expect(Date.now() - started).to.be.below(5000);
    abort.abort();
    remove();
  });
});
