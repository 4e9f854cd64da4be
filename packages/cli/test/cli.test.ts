import { expect } from 'chai';
import { createServer } from 'node:net';
import { CommandBench, Run } from '../../../test/command-run.js';
import { type TestService, KEY, temporaryDirectory, until } from '../../../test/service.js';

describe('the command line', () => {
  const bench = new CommandBench();
  const { run, file } = bench;
  let service: TestService;
  before(() => (service = bench.service));

  it('puts, gets, merges and deletes', async () => {
    expect(await run(['put', 'balloons/bl-1', '{"name":"Amber Heron","fuel":5}'])).to.deep.include({
      code: 0,
      err: '',
    });
    const got = await run(['get', 'balloons/bl-1']);
    expect(got.out)
      .to.match(/^balloons\/bl-1 {2}version 1, created /)
      .and.include('"name": "Amber Heron"');
    await run(['merge', 'balloons/bl-1', '-'], '{"fuel":null}');
    const json = JSON.parse((await run(['get', 'balloons/bl-1', '--json'])).out) as { version: number; data: unknown };
    expect(json).to.deep.include({ version: 2, data: { name: 'Amber Heron' } });
    const created = JSON.parse((await run(['put', 'notices', `@${file('notice.json', '{"a":1}')}`, '--json'])).out) as {
      address: string;
    };
    expect(created.address).to.match(/^notices\/[0-9a-f-]{36}$/);
    expect((await run(['merge', 'balloons/bl-1', '{}', '--if-version', '1'])).code).to.equal(6);
    expect((await run(['put', 'balloons/bl-1', '{}', '--if-version', '0'])).code).to.equal(6);
    expect((await run(['delete', 'balloons/bl-1'])).out).to.include('deleted balloons/bl-1');
    expect((await run(['get', 'balloons/bl-1'])).code).to.equal(5);
    expect((await run(['delete', 'balloons/bl-1'])).code).to.equal(5);
  });

  it('lists a collection as a table, or as NDJSON', async () => {
    for (const n of [1, 2, 3]) await run(['put', `pads/p-${n}`, `{"name":"Pad ${n}","open":true}`]);
    const table = (await run(['get', 'pads'])).out.split('\n');
    expect(table[0]).to.match(/^id +version +name +open$/);
    expect(table[2]).to.match(/^p-2 +\d+ +Pad 2 +true$/);
    const first = await run(['get', 'pads', '--limit', '2', '--json']);
    expect(
      first.out
        .trim()
        .split('\n')
        .map((line) => (JSON.parse(line) as { id: string }).id),
    ).to.deep.equal(['p-1', 'p-2']);
    const cursor = /--after (\S+)/.exec(first.err)![1]!;
    expect((await run(['get', 'pads', '--after', cursor])).out)
      .to.include('p-3')
      .and.not.include('p-1');
    expect((await run(['get', 'padds'])).err).to.include('Did you mean "pads"');
  });

  it('reports errors plainly, with an exit code for each kind', async () => {
    const CASES: [string[], Record<string, string>, number, string][] = [
      [['get', 'Balloons'], {}, 2, 'is not a valid collection name'],
      [['get', 'balloons/a b'], {}, 2, 'is not a valid document id'],
      [['merge', 'balloons', '{}'], {}, 2, 'names a collection'],
      [['put', 'a/b', '{"a":tru}'], {}, 2, '{"a":tru}\n           ^'],
      [['put', 'a/b', '[1]'], {}, 2, 'must be a JSON object'],
      [['put', 'a/b', '@/nowhere.json'], {}, 2, 'cannot be read'],
      [['put', 'a/b', '{}', '--if-version', 'x'], {}, 2, 'is no version'],
      [['gte', 'a'], {}, 2, 'get'],
      [['get'], {}, 2, 'missing'],
      [['get', 'a'], { UPROAR_KEY: '' }, 4, 'set UPROAR_KEY'],
      [['get', 'a'], { UPROAR_KEY: 'wrong' }, 4, 'not know this key'],
      [['get', 'a'], { UPROAR_URL: 'http://127.0.0.1:1' }, 3, '--url'],
      [['get', 'a'], { UPROAR_URL: 'nonsense' }, 2, 'not the address'],
      [['serve', '--port', '99999'], {}, 2, 'is no port'],
    ];
    for (const [args, environment, code, message] of CASES) {
      const outcome = await new Run(args, { UPROAR_URL: service.url, UPROAR_KEY: KEY, ...environment }).ended;
      expect([outcome.code, outcome.err.includes(message)], `${args.join(' ')}: ${outcome.err}`).to.deep.equal([
        code,
        true,
      ]);
      expect(outcome.err, 'no stack traces').not.to.include('    at ');
    }
  });

  it('prints changes as they come, until it is interrupted', async () => {
    const watch = new Run(['watch', 'gates'], { UPROAR_URL: service.url, UPROAR_KEY: KEY });
    await until('it follows', () => watch.out.includes('changes follow'));
    await run(['put', 'gates/g-1', '{"visitors":1,"name":"North"}']);
    await run(['merge', 'gates/g-1', '{"visitors":2}']);
    await run(['delete', 'gates/g-1']);
    await until('three lines', () => watch.out.trim().split('\n').length === 4);
    watch.process.kill('SIGINT');
    const { code, out } = await watch.ended;
    expect(code).to.equal(0);
    const lines = out.trim().split('\n').slice(1);
    expect(lines[0]).to.match(/\+ g-1 +visitors 1 {2}name North$/);
    expect(lines[1]).to.match(/~ g-1 +visitors 1 → 2$/);
    expect(lines[2]).to.match(/- g-1 +deleted$/);
  });

  describe('queries', () => {
    before(async () => {
      const lines = Array.from({ length: 150 }, (_, n) =>
        JSON.stringify({ id: `q-${n}`, n, kind: n % 5 === 0 ? 'five' : 'other', deep: { x: n } }),
      );
      await run(['import', 'numbers', '-', '--format', 'ndjson'], lines.join('\n'));
    });

    it('print as a table, as NDJSON, as CSV, and go on behind a cursor', async () => {
      const query = ['query', 'numbers', '--where', "kind = 'five' AND n > 100", '--order', '-n', '--fields', 'n'];
      const table = await run([...query, '--limit', '3']);
      expect(
        table.out
          .trim()
          .split('\n')
          .map((line) => line.trim().replace(/ +/g, ' ')),
      ).to.deep.equal(['id n', 'q-145 145', 'q-140 140', 'q-135 135']);
      const cursor = /--after (\S+)/.exec(table.err)![1]!;
      expect((await run([...query, '--limit', '3', '--after', cursor])).out)
        .to.include('q-130')
        .and.not.include('q-135');
      const json = await run([...query, '--json']);
      expect(
        json.out
          .trim()
          .split('\n')
          .map((line) => (JSON.parse(line) as { id: string }).id),
      ).to.deep.equal(['q-145', 'q-140', 'q-135', 'q-130', 'q-125', 'q-120', 'q-115', 'q-110', 'q-105']);
      expect((await run([...query, '--csv'])).out.split('\n').slice(0, 2)).to.deep.equal(['id,n', 'q-145,145']);
    });

    it('show a mistake with a caret under it, also when watched', async () => {
      for (const command of ['query', 'watch']) {
        const { code, err } = await run([command, 'numbers', '--where', 'n > 3 AN n < 5']);
        expect(code).to.equal(2);
        expect(err).to.include('Expected: AND').and.include('      n > 3 AN n < 5\n            ^');
      }
      expect((await run(['query', 'numbers', '--limit', 'many'])).code).to.equal(2);
    });

    it('are explained, and helped by an index', async () => {
      const explain = [
        'query',
        'numbers',
        '--where',
        "kind = 'five' AND n > 100",
        '--order',
        '-n',
        '--limit',
        '2',
        '--explain',
      ];
      const before = await run(explain);
      expect(before.out)
        .to.include('every document of the collection (full scan)')
        .and.include("uproar index create numbers 'kind,-n'")
        .and.include("are tested (kind = 'five')");
      expect((await run(['index', 'create', 'numbers', 'kind,-n'])).out).to.include('created index');
      expect((await run(explain)).out)
        .to.include('the index kind,-n (index scan), searched by kind =')
        .and.match(/order +by the index, so/)
        .and.match(/reads +3 documents for 2/);
      expect((await run(['query', 'numbers', '--explain'])).out).to.match(/order +by ids, so/);
      expect((await run(['index'])).out).to.match(/numbers +kind,-n +ready/);
      const { id } = JSON.parse((await run(['index', 'list', '--json'])).out) as { id: number };
      expect((await run(['index', 'remove', String(id)])).code).to.equal(0);
      expect((await run(['index', 'remove', String(id)])).code).to.equal(5);
      expect((await run(['query', 'numbers', '--where', "n = 'x'", '--explain'])).out).to.include('never be true');
    });

    it('can be watched with order and limit', async () => {
      const watch = new Run(['watch', 'numbers', '--order', '-n', '--limit', '2', '--json'], {
        UPROAR_URL: service.url,
        UPROAR_KEY: KEY,
      });
      await until('two documents', () => watch.out.trim().split('\n').length === 2);
      await run(['put', 'numbers/q-new', '{"n":1000}']);
      await until('one in, one out', () => watch.out.trim().split('\n').length === 4);
      watch.process.kill('SIGTERM');
      const changes = (await watch.ended).out
        .trim()
        .split('\n')
        .map((line) => JSON.parse(line) as { change: string; id: string });
      expect(changes.map(({ change, id }) => `${change} ${id}`)).to.have.members([
        'found q-149',
        'found q-148',
        'deleted q-148',
        'created q-new',
      ]);
    });
  });

  it('prints the journal, and follows it', async () => {
    await run(['put', 'pads/j-1', '{"claimedBy":"c-1"}']);
    await run(['merge', 'pads/j-1', '{"claimedBy":"c-2"}']);
    await run(['delete', 'pads/j-1']);
    const { out } = await run(['journal', '--last', '3']);
    expect(
      out
        .trim()
        .split('\n')
        .map((line) => line.replace(/^.*key:environment +/, '')),
    ).to.deep.equal([
      '+ pads/j-1  claimedBy c-1',
      '~ pads/j-1  claimedBy c-1 → c-2',
      '- pads/j-1  was {"claimedBy":"c-2"}',
    ]);
    const one = await run(['journal', '--last', '3', '--where', "claimedBy = 'c-1'", '--json']);
    expect(one.out.trim().split('\n')).to.have.length(2);
    expect((await run(['journal', '--where', 'claimedBy ='])).code).to.equal(2);
    const follow = new Run(['journal', '--follow', '--collection', 'followed'], {
      UPROAR_URL: service.url,
      UPROAR_KEY: KEY,
    });
    await until('it follows', async () => {
      await run(['put', 'followed/a', '{"n":1}']);
      return follow.out.includes('followed/a');
    });
    follow.process.kill('SIGINT');
    expect((await follow.ended).code).to.equal(0);
  });

  it('reports the connection check step by step', async () => {
    await run(['put', 'anything/a', '{}']);
    const good = await run(['status']);
    expect(good.code).to.equal(0);
    expect(good.out).to.include('✓ address').and.include('✓ key').and.include('✓ live').and.include('collection');
    const wrong = await new Run(['status'], { UPROAR_URL: service.url, UPROAR_KEY: 'wrong' }).ended;
    expect([wrong.code, wrong.out.includes('✗ key')]).to.deep.equal([4, true]);
    const json = JSON.parse((await run(['status', '--json'])).out) as { collections: unknown[] };
    expect(json.collections).to.be.an('array').with.length.above(0);
  });

  describe('import', () => {
    const documents = async (collection: string) => {
      const { documents } = (await service.request('GET', `/v1/data/${collection}`)).json;
      return Object.fromEntries((documents as { id: string; data: unknown }[]).map(({ id, data }) => [id, data]));
    };

    it('reads NDJSON, a JSON array, and documents as they are printed', async () => {
      await run(['import', 'lines', file('lines.ndjson', '{"id":"a","n":1}\n\n{"id":"b","n":2}\n')]);
      expect(await documents('lines')).to.deep.equal({ a: { n: 1 }, b: { n: 2 } });
      const array = '\n[ {"id":"a","text":"x,]}\\"{"},\n {"id":"b","deep":{"list":[1,[2]]}} ]\n';
      expect((await run(['import', 'array', file('array.json', array)])).out).to.include(
        'imported 2 documents into array',
      );
      expect(await documents('array')).to.deep.equal({ a: { text: 'x,]}"{' }, b: { deep: { list: [1, [2]] } } });
      const printed = (await run(['get', 'array', '--json'])).out;
      await run(['import', 'again', '-', '--format', 'ndjson'], printed);
      expect(await documents('again')).to.deep.equal(await documents('array'));
      await run(['import', 'keyed', '-', '--format', 'json', '--id-field', 'number'], '[{"number":7,"id":"x"}]');
      expect(await documents('keyed')).to.deep.equal({ 7: { id: 'x' } });
      await run(['import', 'unnamed', '-', '--format', 'json'], '[{"n":1},{"n":2}]');
      expect(Object.values(await documents('unnamed'))).to.deep.equal([{ n: 1 }, { n: 2 }]);
    });

    it('recognises the types of CSV column by column', async () => {
      const csv =
        'id,count,code,mixed,open,pilot.name,pilot.hours,tags,empty\n1,5,007,1,true,"O""Dell, Jo",1.5,"[1,2]",\n2,-0.5,12,x,false,Ann,,"{}",\n';
      expect((await run(['import', 'csv', file('a.csv', csv)])).code).to.equal(0);
      expect(await documents('csv')).to.deep.equal({
        1: { count: 5, code: '007', mixed: '1', open: true, pilot: { name: 'O"Dell, Jo', hours: 1.5 }, tags: [1, 2] },
        2: { count: -0.5, code: '12', mixed: 'x', open: false, pilot: { name: 'Ann' }, tags: {} },
      });
      await run(['import', 'csvin', '-', '--format', 'csv'], csv);
      expect(await documents('csvin')).to.deep.equal(await documents('csv'));
    });

    it('names the line that cannot be taken', async () => {
      const CASES: [string, string, string][] = [
        ['ndjson', '{"id":"a"}\n{"id":"b"\n', 'Line 2'],
        ['ndjson', '{"id":"a"}\n[]\n', 'Line 2'],
        ['ndjson', '{"id":"a b"}\n', 'Line 1: "a b" cannot be an id'],
        ['ndjson', '{"id":"a","x":"\\ud800"}\n', 'Line 1'],
        ['json', '[{"id":"a"},\n{"id":"b","id":"c"}]', 'Line 2'],
        ['json', '{"id":"a"}', 'array of objects'],
        ['json', '[{"id":"a"}', 'ends before'],
        ['csv', 'a,a\n1,2\n', 'Two columns'],
        ['csv', 'id,b\n1,2,3\n', 'Line 2'],
      ];
      for (const [format, text, message] of CASES) {
        const { code, err } = await run(['import', 'faulty', '-', '--format', format], text);
        expect([code, err.includes(message)], `${text}: ${err}`).to.deep.equal([2, true]);
      }
      expect((await run(['import', 'faulty', file('what.txt', '')])).err).to.include('--format');
    });

    it('takes many documents in order and in parts', async () => {
      const lines = Array.from({ length: 3000 }, (_, n) => `{"id":"m-${n}","n":${n}}`).join('\n');
      expect((await run(['import', 'many', file('many.ndjson', lines)])).out).to.include('imported 3000 documents');
      const { documents } = (await service.request('GET', '/v1/collections')).json;
      expect(
        (documents as { id: string; data: { documents: number } }[]).find(({ id }) => id === 'many')!.data.documents,
      ).to.equal(3000);
    });
  });

  describe('serve', () => {
    it('makes a key at the first start, prints it once, and refuses a second process on the same store', async () => {
      const { path, remove } = temporaryDirectory();
      const first = new Run(['serve', '--data', path, '--port', '0'], {});
      await until('it serves', () => first.out.includes('shown only now'));
      await until('it printed the key', () => /^ {2}uproar-\S+$/m.test(first.out));
      const key = /^ {2}(uproar-\S+)$/m.exec(first.out)![1]!;
      const url = /http:\/\/[\d.:]+/.exec(first.out)![0];
      expect((await new Run(['put', 'a/b', '{}'], { UPROAR_URL: url, UPROAR_KEY: key }).ended).code).to.equal(0);
      const second = await new Run(['serve', '--data', path, '--port', '0'], {}).ended;
      expect([second.code, second.err.includes(`process ${first.process.pid}`)]).to.deep.equal([1, true]);
      first.process.kill('SIGTERM');
      expect((await first.ended).code).to.equal(0);
      const again = new Run(['serve', '--data', path, '--port', '0'], {});
      await until('it serves', () => again.out.includes('console'));
      expect(again.out).not.to.include('shown only now');
      again.process.kill('SIGINT');
      expect((await again.ended).code).to.equal(0);
      remove();
    });

    it('says when the port is taken', async () => {
      const { path, remove } = temporaryDirectory();
      const taken = createServer();
      await new Promise<void>((resolve) => taken.listen(0, '127.0.0.1', resolve));
      const { port } = taken.address() as { port: number };
      const outcome = await new Run(['serve', '--data', path, '--port', String(port)], {}).ended;
      expect([outcome.code, outcome.err.includes('--port')]).to.deep.equal([1, true]);
      await new Promise((resolve) => taken.close(resolve));
      remove();
    });
  });
});
