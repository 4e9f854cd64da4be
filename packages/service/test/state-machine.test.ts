import { fork } from 'node:child_process';
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { expect } from 'chai';
import { parseOrder, type Write } from '@uproar/core';
import { openStore } from '@uproar/service';
import { HeldDocuments } from '../dist/state/held-documents.js';
import { decodeBatch, encodeBatch, LogRecord, RECORD_FORMAT } from '../dist/state/records.js';
import { connectionOf, type AppliedCommit } from '../dist/store/index.js';
import { Random } from '../../../test/random.js';
import { temporaryDirectory, TestService } from '../../../test/service.js';
import { RandomRecords } from './random-records.js';
import { differ, dumpState, Replay } from './replay.js';

const sha256 = (text: string) => createHash('sha256').update(text).digest('hex');
const AUTHOR = { kind: 'key' as const, name: 'test' };
/** A write to a document of the collection `a`; without a number, its deletion. */
const write = (id: string, n: number | undefined): Write =>
  n === undefined ? { kind: 'delete', collection: 'a', id } : { kind: 'put', collection: 'a', id, data: { n } };
const BATCHES = Number(process.env.HISTORY_BATCHES ?? 120);

describe('applying records', () => {
  it(`leads to the same state in two processes with other clocks, time zones and locales (${BATCHES} batches)`, async function () {
    // A long run has many more batches.
    this.timeout(60_000 + 100 * BATCHES);
    const child = fork(new URL('./replay-main.ts', import.meta.url), {
      execArgv: ['--import', 'tsx', '--no-experimental-require-module'],
      env: { PATH: process.env.PATH, TZ: 'Pacific/Chatham', LC_ALL: 'tr_TR.UTF-8', LANG: 'tr_TR.UTF-8' },
    });
    try {
      const random = new Random(Number(process.env.HISTORY_SEED ?? 3));
      const failures = new Random(random.seed + 1);
      const here = new Replay();
      const records = new RandomRecords(random);
      const proposed = new Set<string>();
      const refusals = new Set<string>();
      for (let n = 0; n < BATCHES; n++) {
        const batch = Array.from({ length: random.integer(1, 12) }, () => records.next());
        if (failures.chance(0.3)) here.applyAndRollBack(encodeBatch(batch));
        for (const outcome of here.apply(encodeBatch(batch)).outcomes) {
          if ('refused' in outcome) refusals.add(outcome.refused.kind);
        }
        child.send(encodeBatch(batch));
        const [there] = (await once(child, 'message')) as [string];
        expect(here.hash() === there, `after batch ${n}: ${JSON.stringify(batch)}`).to.equal(true);
        for (const { kind } of batch) proposed.add(kind);
      }
      expect(here.state.seq, 'commits that were applied').to.be.above(BATCHES / 4);
      const kinds = LogRecord.options.map((option) => option.shape.kind.value as string);
      expect([...proposed].sort(), 'every kind of record').to.deep.equal(kinds.sort());
      expect([...refusals], 'rights, schemas and files refuse some').to.include.members([
        'not-allowed',
        'schema-violation',
        'bad-document',
      ]);
    } finally {
      child.kill();
    }
  });

  it('chains hashes as nodes of earlier versions do, so that a cluster can be upgraded node by node', () => {
    const replay = new Replay();
    replay.apply(
      '{"format":1,"records":[{"kind":"schema-removed","timeMs":7,"collection":"a"},{"kind":"guests-removed","timeMs":8}]}',
    );
    const first = sha256(
      '1 \n{"kind":"schema-removed","timeMs":7,"collection":"a"}\n{"kind":"guests-removed","timeMs":8}',
    );
    expect(replay.state.position.hash).to.equal(first);
    replay.apply('{"format":1,"records":[{"kind":"session-ended","timeMs":9,"id":"s"}]}');
    expect(replay.state.position.hash).to.equal(sha256(`1 ${first}\n{"kind":"session-ended","timeMs":9,"id":"s"}`));
  });

  it('leads from the records of a store to the same store', async () => {
    const directory = temporaryDirectory();
    const batches: string[] = [];
    const service = await TestService.start({ directory: directory.path, accounts: 'open' });
    const { store } = service.service;
    const start = new Replay(connectionOf(store));
    store.log.onBatch(({ records }) => batches.push(encodeBatch(records)));

    const ask = async (method: string, path: string, body?: unknown, status = [200, 201, 204]) => {
      const answer = await service.request(method, path, body);
      expect(answer.status, `${method} ${path}: ${answer.text}`).to.be.oneOf(status);
      return answer.json;
    };
    await ask('PUT', '/v1/policy', {
      text: 'collections: { balloons: { read: true, update: "claim(\'crew\') = 1" } }',
    });
    await ask('PUT', '/v1/schemas/balloons', { mode: 'warn', schema: { required: ['n'] } });
    await ask('POST', '/v1/indexes', { collection: 'balloons', fields: 'n' });
    for (let n = 0; n < 20; n++) await ask('PUT', `/v1/data/balloons/b-${n % 7}`, n % 5 ? { n } : { other: n });
    await ask('DELETE', '/v1/data/balloons/b-3');
    await ask('POST', '/v1/commits', { id: 'once', writes: [{ create: 'balloons', data: { n: 1 } }] });
    await ask('POST', '/v1/commits', { id: 'once', writes: [{ create: 'balloons', data: { n: 1 } }] });
    await ask('PUT', '/v1/files/picture/content', 'words', [200, 201, 204, 415]);
    const { key } = await ask('POST', '/v1/keys', { name: 'gate', scope: 'read' });
    await service.as(key as string)('GET', '/v1/data/balloons');
    await ask('POST', '/v1/keys/gate/rotate', { keepOldSeconds: 60 });
    await ask('POST', '/v1/accounts', { name: 'ada', password: 'a-password-of-ada' });
    const signedIn = await service.as(null)('POST', '/v1/sessions', { name: 'ada', password: 'a-password-of-ada' });
    const { accessToken, refreshToken } = signedIn.json as { accessToken: string; refreshToken: string };
    await service.as(accessToken)('GET', '/v1/accounts/me');
    await service.as(null)('POST', '/v1/sessions/refresh', { refreshToken });
    await service.as(null)('POST', '/v1/accounts/guests');
    await store.contents.sweep(Date.now() + 1e9);
    await service.request('DELETE', '/v1/keys/gate');

    for (const batch of batches) start.apply(batch);
    const differences = differ(dumpState(connectionOf(store)), dumpState(start.database));
    expect(differences).to.deep.equal([]);
    expect(start.state.position.place, 'batches').to.be.above(30);
    await service.stop();
    directory.remove();
  });

  it('refuses batches of a later format and records of another form', () => {
    const later = JSON.stringify({ format: RECORD_FORMAT + 1, records: [] });
    expect(() => decodeBatch(later)).to.throw(RangeError, `format ${RECORD_FORMAT + 1}`);
    const unknown = JSON.stringify({ format: RECORD_FORMAT, records: [{ kind: 'weather', timeMs: 1 }] });
    expect(() => decodeBatch(unknown)).to.throw(RangeError, 'another form');
  });

  it('judges each commit of a batch by the policy and the schema at its place', () => {
    const replay = new Replay();
    const put = (id: string, data: Record<string, number>): LogRecord => {
      const write: Write = { kind: 'put', collection: 'a', id, data };
      return { kind: 'commit', commit: { timeMs: 1, author: AUTHOR, rights: { claims: {} }, writes: [write] } };
    };
    const outcomes: unknown[] = [];
    replay.database.transaction(() => {
      for (const record of [
        put('before', { n: 1 }),
        { kind: 'policy', timeMs: 1, text: 'collections: { a: { read: true, create: true } }', author: AUTHOR },
        put('allowed', { n: 1 }),
        {
          kind: 'schema',
          timeMs: 1,
          collection: 'a',
          mode: 'enforce',
          schema: { properties: { n: { maximum: 5 } } },
          author: AUTHOR,
        },
        put('too-large', { n: 6 }),
        put('fits', { n: 5 }),
        { kind: 'schema-removed', timeMs: 1, collection: 'a' },
        put('free', { n: 6 }),
        { kind: 'policy', timeMs: 1, text: 'collections: {}', author: AUTHOR },
        put('after', { n: 1 }),
      ] satisfies LogRecord[]) {
        const outcome = replay.state.apply(record);
        if (record.kind !== 'commit') continue;
        outcomes.push(
          'applied' in outcome ? outcome.applied!.seq : 'refused' in outcome ? outcome.refused.kind : outcome,
        );
      }
      replay.state.finish();
    })();
    expect(outcomes).to.deep.equal(['not-allowed', 1, 'schema-violation', 2, 3, 'not-allowed']);
    expect(replay.state.position.place, 'one place for the whole batch').to.equal(1);
  });

  it('is refused where it would be under other limits, whatever the settings of this process are', async () => {
    const { path, remove } = temporaryDirectory();
    const strict = openStore(path, { limits: { sizeBytes: 100, depth: 64 } });
    const put = (data: Record<string, string>) =>
      strict.log.append({
        timeMs: 1,
        author: AUTHOR,
        writes: [{ kind: 'put', collection: 'a', id: 'x', data }],
      });
    expect(await put({ text: 'x'.repeat(200) })).to.have.nested.property('refused.kind', 'too-large');
    await strict.log.propose({ kind: 'limits', timeMs: 1, sizeBytes: 1000, depth: 64, resultBytes: 1000 });
    expect(await put({ text: 'x'.repeat(200) })).to.have.property('applied');
    strict.close();
    remove();
  });

  it('writes nowhere but in its folder, apart from local tables and formats', async () => {
    const { readdirSync, readFileSync } = await import('node:fs');
    const source = new URL('../src/', import.meta.url).pathname;
    const statement =
      /\b(INSERT (?:OR \w+ )?INTO|UPDATE|DELETE FROM|DROP TABLE(?: IF EXISTS)?|CREATE TABLE)\s+([\w$]+)/g;
    const found = readdirSync(source, { recursive: true })
      .map(String)
      .filter((name) => name.endsWith('.ts') && !/^(state|store\/migrations)\//.test(name))
      .flatMap((name) =>
        [...readFileSync(source + name, 'utf8').matchAll(statement)].map(([, , table]) => `${name}: ${table}`),
      )
      .filter((line) => !line.endsWith(': SET'));
    expect([...new Set(found)].sort()).to.deep.equal([
      'cluster/cluster.ts: local',
      'cluster/detach.ts: local',
      'cluster/detach.ts: log',
      'hooks/delivery-log.ts: deliveries',
      'identity/audit.ts: audit',
      'identity/keys.ts: key_uses',
      'store/checkpoint-worker.ts: local',
      'store/id-clock.ts: local',
      'store/open-store.ts: local',
      'store/packed-contents.ts: packed_contents',
      // A restored backup is another store, with a log of its own.
      'store/restore.ts: deliveries',
      'store/restore.ts: hooks',
      'store/restore.ts: local',
      'store/restore.ts: log',
      'store/restore.ts: store',
      'store/rewrites.ts: local',
    ]);
  });

  it('fills an index with the documents as they are, also while they change', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const random = new Random(5);
    const ids = Array.from({ length: 3000 }, (_, n) => `d-${n}`);
    const append = (writes: Write[]) => store.log.append({ timeMs: 1, author: AUTHOR, writes });
    await append(ids.map((id, n) => write(id, n)));
    const making = store.indexes.create('a', parseOrder('n'), 1);
    let done = false;
    void making.then(() => (done = true));
    while (!done) {
      await Promise.all(
        Array.from({ length: 5 }, () =>
          append([write(random.pick(ids), random.chance(0.2) ? undefined : random.integer(0, 99))]),
        ),
      );
    }
    const { number } = await making;
    const entries = store.reads.values<[], number>(`SELECT COUNT(*) FROM index_${number}`).get();
    expect(entries).to.equal(store.collections.get('a')!.documents);
    store.close();
    const { checkStore, databaseFile } = await import('@uproar/service');
    expect(checkStore(databaseFile(path)).results.flatMap(({ faults }) => faults)).to.deep.equal([]);
    remove();
  });
});

describe('the cache of documents that commits use', () => {
  it('reads a document once, until many others were used', () => {
    const read: string[] = [];
    const data = JSON.stringify({ text: 'x'.repeat(1_000_000) });
    const get = (_: number, id: string) => {
      read.push(id);
      return id === 'none' ? undefined : { number: 1, id, version: 1, created: 0, updated: 0, expires: null, data };
    };
    const held = new HeldDocuments({ get: () => ({ number: 1 }) } as never, { get } as never);
    for (let n = 0; n < 3; n++) {
      expect(held.get('balloons', 'first')?.document.id).to.equal('first');
      expect(held.get('balloons', 'none')).to.equal(undefined);
    }
    expect(read, 'what is not there is looked for each time').to.deep.equal(['first', 'none', 'none', 'none']);
    for (let n = 0; n < 20; n++) {
      held.get('balloons', `bl-${n}`);
      held.get('balloons', 'often');
    }
    held.get('balloons', 'first');
    const times = (id: string) => read.filter((other) => other === id).length;
    expect([times('often'), times('first')]).to.deep.equal([1, 2]);
    held.clear();
    held.get('balloons', 'often');
    expect(times('often'), 'after the cache was cleared').to.equal(2);
    held.drop('balloons/often');
    held.get('balloons', 'often');
    expect(times('often'), 'after it was dropped').to.equal(3);
  });

  it('follows commits of many documents, which it does not keep', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const append = (writes: Write[]) => store.log.append({ timeMs: 1, author: AUTHOR, writes });
    const merge = () => append([{ kind: 'merge', collection: 'a', id: 'd-1', data: { more: true } }]);
    const many = Array.from({ length: 100 }, (_, n) => `d-${n}`);
    await append([write('d-1', 1)]);
    await append(many.map((id) => write(id, 2)));
    const merged = (await merge()) as { applied: AppliedCommit };
    expect(merged.applied.changes[0]?.after?.data).to.deep.equal({ n: 2, more: true });
    await append(many.map((id) => write(id, undefined)));
    expect(await merge()).to.have.nested.property('refused.kind', 'no-such-document');
    store.close();
    remove();
  });
});
