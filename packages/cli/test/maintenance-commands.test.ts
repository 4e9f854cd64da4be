import { expect } from 'chai';
import { connectionOf } from '../../service/dist/store/index.js';
import { parse as parseCsv } from 'csv-parse/sync';
import {
  existsSync,
  mkdirSync,
  openSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  truncateSync,
  writeFileSync,
  writeSync,
  closeSync,
} from 'node:fs';
import { dirname } from 'node:path';
import { parseOrder } from '@uproar/core';
import { openStore } from '@uproar/service';
import { CommandBench, MAIN, Run } from '../../../test/command-run.js';
import { StreamReader } from '../../../test/event-stream.js';
import { Random } from '../../../test/random.js';
import { KEY, TestService, until } from '../../../test/service.js';

describe('the command line: undo, and the care of a store', () => {
  const bench = new CommandBench();
  const { run, file, at } = bench;
  let service: TestService;
  before(() => (service = bench.service));

  const put = async (address: string, data: object): Promise<number> =>
    (await service.request('PUT', `/v1/data/${address}`, data)).json.version;
  const read = async (address: string) => (await service.request('GET', `/v1/data/${address}`)).json;

  it('opens a document in an editor and sends only the changes', async () => {
    const editor = (script: string) => ({ EDITOR: `${process.execPath} ${file('editor.cjs', script)}` });
    const replace = (from: string, to: string) =>
      `const fs = require('fs'); const f = process.argv[2]; fs.writeFileSync(f, fs.readFileSync(f, 'utf8').replace(${JSON.stringify(from)}, ${JSON.stringify(to)}));`;
    await put('memos/m-1', { title: 'Fog', severity: 'info', list: [1, 2] });
    // While the editor is open, another client changes another field, and then the same one.
    const otherEdit = (field: string) =>
      `require('child_process').execFileSync(process.execPath, ${JSON.stringify([MAIN])}.concat(['merge', 'memos/m-1', ${JSON.stringify(`{"${field}":"by another"}`)}]));`;
    const written = await run(['edit', 'memos/m-1'], undefined, editor(otherEdit('severity') + replace('Fog', 'Sun')));
    expect(written.err).to.equal('');
    expect(written.out).to.match(/^written memos\/m-1/);
    expect((await read('memos/m-1')).data).to.deep.equal({ title: 'Sun', severity: 'by another', list: [1, 2] });
    const [commit] = (await service.request('GET', '/v1/journal?doc=memos/m-1&before=now&limit=1')).json.events;
    expect(commit.data.before.data.title).to.equal('Fog');

    const conflict = await run(['edit', 'memos/m-1'], undefined, editor(otherEdit('title') + replace('Sun', 'Rain')));
    expect(conflict.code).to.equal(6);
    expect(conflict.err).to.include('/title of memos/m-1 meanwhile');
    const kept = /kept in (\S+\.json)/.exec(conflict.err)![1]!;
    expect(readFileSync(kept, 'utf8')).to.include('Rain');
    rmSync(dirname(kept), { recursive: true });

    expect((await run(['edit', 'memos/m-1'], undefined, editor(''))).out).to.equal('unchanged memos/m-1\n');
    const broken = await run(['edit', 'memos/m-1'], undefined, editor(replace('{', '[')));
    expect(broken.code).to.equal(2);
    rmSync(dirname(/kept in (\S+\.json)/.exec(broken.err)![1]!), { recursive: true });
    expect((await run(['edit', 'memos/none'], undefined, editor(''))).code).to.equal(5);
    const failed = await run(['edit', 'memos/m-1'], undefined, { EDITOR: 'false' });
    expect(failed.err).to.include('ended with status 1');
    rmSync(dirname(/kept in (\S+\.json)/.exec(failed.err)![1]!), { recursive: true });
  });

  it('adjusts fields relative to their value in the store', async () => {
    await put('gates/g-1', { visitors: 5, day: { peak: 3 } });
    expect((await run(['adjust', 'gates/g-1', 'visitors+=2', 'day.peak-=1'])).out).to.match(
      /^written gates\/g-1 {2}version \d+\n$/,
    );
    await run(['adjust', 'gates/g-1', '{"/crew":{"with":["c-1"]},"/visitors":{"max":3}}']);
    expect((await read('gates/g-1')).data).to.deep.equal({ visitors: 7, day: { peak: 2 }, crew: ['c-1'] });
    const wrong = await run(['adjust', 'gates/g-1', 'crew+=1']);
    expect([wrong.code, wrong.err.includes('/crew')]).to.deep.equal([6, true]);
    expect((await run(['adjust', 'gates/g-1', 'visitors=+1'])).code).to.equal(2);
  });

  it('shows the past of a document, and puts it back', async () => {
    const first = await put('notices/n-1', { text: 'Wind', level: 1 });
    await put('other/o-1', {});
    const second = await put('notices/n-1', { text: 'Storm', level: 1 });
    const { out } = await run(['journal', 'notices/n-1']);
    expect(out.trim().split('\n')).to.have.length(2);
    expect(out).to.include('text Wind → Storm').and.not.include('o-1');
    expect((await run(['journal', 'notices/n-1', '--last', '1'])).out).to.not.include('+ notices');
    expect((await run(['journal', 'notices/none'])).err).to.include('no change of notices/none');

    expect(JSON.parse((await run(['get', 'notices/n-1', '--at', String(first), '--json'])).out)).to.deep.include({
      data: { text: 'Wind', level: 1 },
    });
    expect((await run(['revert', 'notices/n-1', '--to', String(first)])).out)
      .to.include('restored')
      .and.include('Storm → Wind');
    expect((await read('notices/n-1')).data).to.deep.equal({ text: 'Wind', level: 1 });
    expect((await run(['revert', 'notices/n-1', '--to', String(first)])).out).to.include('nothing was written');
    await service.request('DELETE', '/v1/data/notices/n-1');
    const back = JSON.parse((await run(['revert', 'notices/n-1', '--to', String(second), '--json'])).out) as object;
    expect(back).to.include({ address: 'notices/n-1', changed: true });
    expect((await read('notices/n-1')).data.text).to.equal('Storm');
    expect((await run(['revert', 'notices/n-1', '--to', String(first - 1)])).out).to.include('deleted');
    expect((await run(['revert', 'notices/n-1', '--to', String(first - 1)])).code).to.equal(5);
    expect((await run(['revert', 'notices/n-1', '--to', '99999'])).err).to.include('seq 99999 does not exist yet');
    expect((await run(['revert', 'notices/n-1', '--to', 'x'])).code).to.equal(2);
  });

  it('exports documents and queries in three forms, which come in again as they were', async () => {
    const random = new Random(3);
    for (let n = 0; n < 40; n++) {
      await put(`odd/d-${n}`, { n, text: `line\nbreak, "quoted" ${n}`, deep: random.object(2) });
    }
    const exported = async (...args: string[]) => (await run(['export', 'odd', ...args])).out;
    const lines = (await exported())
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line) as { id: string; data: object });
    expect(JSON.parse(await exported('--format', 'json'))).to.deep.equal(lines);
    const csv = parseCsv(await exported('--format', 'csv', '--fields', 'n,text', '--where', 'n < 3'), {
      columns: true,
    });
    expect(csv[2]).to.deep.equal({ id: 'd-2', n: '2', text: 'line\nbreak, "quoted" 2' });
    expect(JSON.parse(await exported('--format', 'json', '--where', 'n > 900'))).to.deep.equal([]);

    for (const format of ['ndjson', 'json']) {
      expect(await exported('--format', format, '--out', at(`odd.${format}`))).to.include(
        'exported 40 documents of odd',
      );
      expect((await run(['export', 'odd', '--format', format, '--out', at(`odd.${format}`)])).code).to.equal(2);
      expect((await run(['import', `again-${format}`, at(`odd.${format}`)])).code).to.equal(0);
      const { documents } = (await service.request('GET', `/v1/data/again-${format}?limit=100`)).json;
      expect((documents as typeof lines).map(({ id, data }) => ({ id, data }))).to.deep.equal(
        lines.map(({ id, data }) => ({ id, data })),
      );
    }
    expect((await run(['export', '--all', '--out', at('all')])).out).to.include('of odd into');
    expect(readdirSync(at('all')).sort()).to.include.members(['odd.ndjson', 'again-json.ndjson']);
    expect(readFileSync(at('all/odd.ndjson'), 'utf8').trim().split('\n')).to.have.length(40);
    for (const wrong of [
      ['export'],
      ['export', 'odd', '--all'],
      ['export', '--all', '--out', at('x'), '--where', 'a = 1'],
    ]) {
      expect((await run(wrong)).code, wrong.join(' ')).to.equal(2);
    }
  });

  it('imports with a say on documents that are there, on bad rows, and without doing it', async () => {
    await put('crews/a', { n: 'old' });
    const rows = file(
      'crews.ndjson',
      '{"id":"a","n":"new"}\n{"id":"b","n":1}\nnot json\n{"id":"c d"}\n{"id":"e","n":2}\n',
    );
    const dry = await run(['import', 'crews', rows, '--dry-run', '--on-conflict', 'fail']);
    expect([dry.code, dry.out]).to.deep.equal([2, 'would import 2 documents into crews, 3 bad rows left out\n']);
    expect(dry.err).to.include('line 3').and.include('line 4').and.include('line 1 crews/a exists already');
    expect((await service.request('GET', '/v1/data/crews')).json.documents).to.have.length(1);

    const kept = await run(['import', 'crews', rows, '--on-conflict', 'keep', '--skip-bad', '--json']);
    expect(JSON.parse(kept.out)).to.deep.include({ written: 2, kept: 1, badCount: 2 });
    expect((await read('crews/a')).data.n).to.equal('old');
    const good = file('good.ndjson', '{"id":"a","n":"new"}\n{"id":"f","n":1}\n');
    const failed = await run(['import', 'crews', good, '--on-conflict', 'fail']);
    expect([failed.code, failed.err.includes('Line 1')]).to.deep.equal([2, true]);
    expect((await service.request('GET', '/v1/data/crews/f')).status, 'nothing of that commit').to.equal(404);
    await run(['import', 'crews', good]);
    expect((await read('crews/a')).data.n).to.equal('new');
  });

  it('resumes an import that was killed, and applies nothing twice', async () => {
    const total = 20_000;
    const lines = Array.from({ length: total }, (_, n) => `{"n":${n}}`).join('\n');
    const path = file('long.ndjson', lines);
    const first = new Run(['import', 'long', path], { UPROAR_URL: service.url, UPROAR_KEY: KEY });
    const count = async () => {
      const { documents } = (await service.request('GET', '/v1/collections')).json;
      return (
        (documents as { id: string; data: { documents: number } }[]).find(({ id }) => id === 'long')?.data.documents ??
        0
      );
    };
    await until('progress is written down', () => existsSync(`${path}.import-progress`));
    first.process.kill('SIGKILL');
    await first.ended;
    const there = await count();
    expect(there).to.be.within(1, total - 1);
    const plain = await run(['import', 'long', path]);
    expect([plain.code, plain.err.includes('--resume')]).to.deep.equal([2, true]);
    expect((await run(['import', 'other', path, '--resume'])).err).to.include('another collection');
    const resumed = await run(['import', 'long', path, '--resume']);
    expect(resumed.code, resumed.err).to.equal(0);
    expect(await count(), 'documents without ids of their own, each once').to.equal(total);
    const { events } = (await service.request('GET', '/v1/journal?collection=long&before=now&limit=1')).json;
    expect(events[0].commitid).to.match(/^import-/);
    expect(existsSync(`${path}.import-progress`)).to.equal(false);
    expect((await run(['import', 'long', path, '--resume'])).err).to.include('no import');
  });

  it('backs a store up while it is written to, checks the copy, and restores it under another name', async () => {
    await service.request('POST', '/v1/indexes', { collection: 'pairs', fields: 'n' });
    let writing = true;
    let acknowledged = 0;
    const client = service.client();
    const writers = Array.from({ length: 4 }, async (_, writer) => {
      for (let n = 0; writing; n++) {
        await client.commit({
          writes: ['left', 'right'].map((side) => ({ put: `pairs/${writer}-${side}`, data: { n } })),
        });
        acknowledged++;
      }
    });
    await until('there is something', () => acknowledged > 50);
    const before = acknowledged;
    const outcome = await run(['backup', at('copy.sqlite'), '--json']);
    expect(outcome.code, outcome.err).to.equal(0);
    expect(acknowledged, 'writing went on').to.be.above(before);
    writing = false;
    await Promise.all(writers);
    const { seq, sha256, documents } = JSON.parse(outcome.out) as { seq: number; sha256: string; documents: number };
    expect(sha256).to.match(/^[0-9a-f]{64}$/);
    expect(readdirSync(service.directory).filter((name) => name.startsWith('backup-'))).to.deep.equal([]);
    expect((await run(['backup', at('copy.sqlite')])).code, 'it is there already').to.equal(2);

    const restored = await run(['restore', at('copy.sqlite'), '--data', at('restored')]);
    expect(restored.out).to.include(`restored ${documents} documents at seq ${seq}`);
    const store = openStore(at('restored'));
    expect(store.log.seq).to.equal(seq);
    expect(store.id).not.to.equal(service.service.store.id);
    const { number } = store.collections.get('pairs')!;
    for (let writer = 0; writer < 4; writer++) {
      const [left, right] = ['left', 'right'].map((side) => store.documents.get(number, `${writer}-${side}`)?.data);
      expect(left, 'a commit is in it whole').to.equal(right);
    }
    store.close();
    expect((await run(['restore', at('copy.sqlite'), '--data', at('restored')])).err).to.include('--replace');
    const replaced = JSON.parse(
      (await run(['restore', at('copy.sqlite'), '--data', at('restored'), '--replace', '--json'])).out,
    ) as { aside: string };
    expect(existsSync(replaced.aside)).to.equal(true);
    expect((await run(['check', replaced.aside])).code).to.equal(0);
    const busy = await run(['restore', at('copy.sqlite'), '--data', service.directory, '--replace']);
    expect([busy.code, busy.err.includes('has the store')]).to.deep.equal([1, true]);
  });

  it('makes watchers of a restored store start again instead of resuming', async () => {
    const own = await TestService.start();
    await own.request('PUT', '/v1/data/a/x', { n: 1 });
    const copy = at('small.sqlite');
    const environment = { UPROAR_URL: own.url, UPROAR_KEY: KEY };
    expect((await new Run(['backup', copy], environment).ended).code).to.equal(0);
    await own.request('PUT', '/v1/data/a/x', { n: 2 });
    const before = await StreamReader.open(`${own.url}/v1/data/a?limit=none`);
    await until('the first state', () => before.seq === 2);
    before.close();
    const port = Number(new URL(own.url).port);
    await own.service.close();
    expect((await run(['restore', copy, '--data', own.directory, '--replace'])).code).to.equal(0);
    const again = await TestService.start({ directory: own.directory, port });
    const after = await StreamReader.open(`${again.url}/v1/data/a?limit=none`, before);
    await until('something arrives', () => after.events.length > 0);
    expect(after.events[0]).to.deep.include({ event: 'reset' });
    expect((after.state.x as { data: object }).data).to.deep.equal({ n: 1 });
    after.close();
    await again.stop();
    await own.stop();
  });

  it('finds faults in a store', async () => {
    const found = async (name: string, spoil: string[]) => {
      mkdirSync(at(name));
      const store = openStore(at(name));
      const author = { kind: 'key' as const, name: 'test' };
      for (let n = 0; n < 30; n++) {
        await store.log.append({
          timeMs: 1,
          author,
          writes: [{ kind: 'put', collection: 'a', id: `d-${n % 10}`, data: { n } }],
        });
      }
      await store.indexes.create('a', parseOrder('-n'), 1);
      for (const sql of spoil) connectionOf(store).exec(sql);
      store.close();
      const { code, out } = await run(['check', at(name), '--json']);
      const { results, sound } = JSON.parse(out) as { results: { what: string; faults: string[] }[]; sound: boolean };
      expect([code, sound]).to.deep.equal(spoil.length === 0 ? [0, true] : [7, false]);
      return results.flatMap(({ what, faults }) => faults.map((fault) => `${what}: ${fault}`)).join('\n');
    };
    expect(await found('sound', [])).to.equal('');
    expect(await found('silent-edit', [`UPDATE documents SET data = '{"n":99}' WHERE id = 'd-3'`])).to.include(
      'a/d-3 differs from the state after commit 24',
    );
    expect(await found('vanished', [`DELETE FROM documents WHERE id = 'd-3'`]))
      .to.include('has 9 with')
      .and.include('a/d-3');
    expect(await found('not-json', [`UPDATE documents SET data = '{"n":' WHERE id = 'd-4'`])).to.include('is not JSON');
    expect(await found('gap', ['DELETE FROM commits WHERE seq = 12'])).to.include('1 commits are missing');
    expect(await found('index', ["DELETE FROM index_1 WHERE id = 'd-7'"])).to.include('Index a -n lacks a/d-7');
    expect(await found('count', ['UPDATE collections SET documents = 11'])).to.include('should have 11');
    expect((await run(['check', at('nowhere')])).code).to.equal(2);
    const { code, err } = await run(['check', file('text.sqlite', 'no database at all, just text')]);
    expect([code, err.includes('cannot be read')]).to.deep.equal([7, true]);
  });

  it('says so when the file is torn, and does not serve or keep it', async () => {
    mkdirSync(at('torn'));
    const store = openStore(at('torn'));
    const author = { kind: 'key' as const, name: 'test' };
    for (let n = 0; n < 60; n++) {
      const data = { n, text: 'x'.repeat(2000) };
      await store.log.append({ timeMs: 1, author, writes: [{ kind: 'put', collection: 'a', id: `d-${n}`, data }] });
    }
    store.close();
    const database = at('torn/uproar.sqlite');
    const whole = readFileSync(database);
    const descriptor = openSync(database, 'r+');
    writeSync(descriptor, Buffer.alloc(4096 * 12, 0x5a), 0, 4096 * 12, 4096 * 20);
    closeSync(descriptor);
    const checked = await run(['check', at('torn')]);
    expect([1, 7], checked.err + checked.out).to.include(checked.code);
    const refused = await run(['restore', database, '--data', at('from-torn')]);
    expect([1, 7], refused.err).to.include(refused.code);
    expect(existsSync(at('from-torn/uproar.sqlite'))).to.equal(false);
    writeFileSync(database, whole);
    truncateSync(database, statSync(database).size - 4096 * 5);
    expect((await run(['check', at('torn')])).code).to.not.equal(0);
  });
});
