import { expect } from 'chai';
import { CommandBench, Run } from '../../../test/command-run.js';
import { KEY, until, type TestService } from '../../../test/service.js';

describe('uproar query and watch, with related documents and totals', () => {
  const bench = new CommandBench();
  const { run } = bench;
  let service: TestService;
  before(async () => {
    service = bench.service;
    const writes = [
      { put: 'crews/c-1', data: { name: 'Hollow' } },
      ...Array.from({ length: 6 }, (_, n) => ({
        put: `balloons/b-${n}`,
        data: { crewId: n < 4 ? 'c-1' : 'c-9', status: n % 2 ? 'aloft' : 'packed', altitude: n * 100 },
      })),
    ];
    await service.request('POST', '/v1/commits', { writes });
    await service.request('POST', '/v1/indexes', { collection: 'balloons', fields: 'crewId' });
  });

  it('print related documents as columns, or all of them as JSON', async () => {
    const { out, code } = await run(['query', 'balloons', '--include', 'crew = crews via crewId']);
    expect(code).to.equal(0);
    expect(out).to.match(/id +version +→ crew +crewId/);
    expect(out).to.match(/b-0 +1 +c-1 /);
    expect(out).to.match(/b-5 +1 +– /);
    const owned = await run(['query', 'crews', '--include', 'balloons by crewId limit 2', '--json']);
    const [crew] = owned.out
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line) as { related: { balloons: object[] } });
    expect(crew!.related.balloons).to.have.length(2);
    const explained = (await run(['query', 'crews', '--include', 'balloons by crewId', '--explain'])).out;
    expect(explained).to.match(/with balloons +balloons, by the index crewId/);
  });

  it('mark mistakes in an include, and name the index that is missing', async () => {
    const mistake = await run(['query', 'balloons', '--include', 'crews vi crewId']);
    expect(mistake.code).to.equal(2);
    expect(mistake.err).to.include('      crews vi crewId\n            ^');
    const missing = await run(['watch', 'crews', '--include', 'balloons by status']);
    expect(missing.err).to.include("uproar index create balloons 'status'");
  });

  it('print totals as a table, as CSV and as JSON', async () => {
    const totals = ['query', 'balloons', '--summary', 'count(),highest = max(altitude)', '--by', 'status'];
    const { out } = await run(totals);
    expect(out.split('\n')[0]).to.match(/^status +count\(\) +highest$/);
    expect(out).to.match(/aloft +3 +500/);
    expect((await run([...totals, '--csv'])).out).to.equal('status,count(),highest\naloft,3,500\npacked,3,400\n');
    const lines = (await run([...totals, '--json'])).out.trim().split('\n');
    expect(JSON.parse(lines[0]!)).to.deep.equal({ id: 'aloft', data: { status: 'aloft', 'count()': 3, highest: 500 } });
    const wrong = await run(['query', 'balloons', '--summary', 'median(altitude)']);
    expect(wrong.code).not.to.equal(0);
    expect(wrong.err).to.include('"median(altitude)" is no total');
  });

  it('and other commands that read a collection suggest similar names', async () => {
    const misspelt = [
      ['query', 'baloons'],
      ['query', 'balloons', '--where', 'altitud > 1', '--json'],
      ['query', 'balloons', '--summary', 'max(altitud)'],
      ['export', 'balloons', '--where', "altitud > 1 OR status = 'x'"],
      ['shapes', 'baloons'],
      ['rewrite', 'baloons', '--merge', '{"a":1}', '--dry-run'],
      ['index', 'create', 'balloons', 'statsu'],
    ];
    for (const command of misspelt)
      expect((await run(command)).err, command.join(' ')).to.match(
        /note .*Did you mean "(balloons|altitude|status)"\?/,
      );
    const watch = new Run(['watch', 'baloons', '--lines'], { UPROAR_URL: service.url, UPROAR_KEY: KEY });
    await until('it says so', () => watch.err.includes('Did you mean "balloons"?'));
    watch.process.kill('SIGINT');
    await watch.ended;
    expect((await run(['query', 'balloons', '--where', 'altitude > 1'])).err).not.to.include('note');
  });

  it('follow totals line by line', async () => {
    const watching = new Run(['watch', 'balloons', '--summary', 'sum(altitude)', '--by', 'status'], {
      UPROAR_URL: service.url,
      UPROAR_KEY: KEY,
    });
    await until('the groups', () => watching.out.includes('packed'), 120_000);
    expect(watching.out).to.match(/2 groups at seq/);
    await service.request('PATCH', '/v1/data/balloons/b-1', { altitude: 150 });
    await until('a change', () => /aloft +sum\(altitude\) 900 → 950/.test(watching.out));
    watching.process.kill('SIGINT');
    await watching.ended;
  });
});
