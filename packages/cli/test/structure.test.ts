import { expect } from 'chai';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { CommandBench, Run } from '../../../test/command-run.js';
import { KEY, until, type TestService } from '../../../test/service.js';

describe('structure on the command line', () => {
  const bench = new CommandBench();
  const { run, at, file } = bench;
  let service: TestService;
  before(async () => {
    service = bench.service;
    const writes = Array.from({ length: 700 }, (_, n) => ({
      put: `crews/c-${String(n).padStart(3, '0')}`,
      data: { lead: `Ada ${n}`, size: n % 2 ? n : String(n), status: n % 3 ? 'here' : 'away' },
    }));
    await service.request('POST', '/v1/commits', { writes });
  });
  const crew = async (id: string) => (await service.request('GET', `/v1/data/crews/${id}`)).json.data as unknown;

  it('proposes, checks, sets, shows and removes a schema', async () => {
    const proposed = await run(['schema', 'propose', 'crews']);
    const schema = JSON.parse(proposed.out) as { properties: { size: object } };
    expect(schema.properties.size).to.deep.equal({ type: ['string', 'integer'] });
    schema.properties.size = { type: 'integer' };
    const path = file('crews.schema.json', JSON.stringify(schema));
    const checked = await run(['schema', 'check', 'crews', '--file', path]);
    expect(checked.code).to.equal(7);
    expect(checked.out).to.match(/c-000 +\/size +must be integer/);
    expect(checked.out).to.include('350 of 700 documents of crews do not fit; the first 100 are shown');
    expect((await run(['schema', 'set', 'crews', path, '--mode', 'enforce'])).err).to.include(
      '350 documents of crews do not fit',
    );
    expect((await run(['schema', 'set', 'crews', path, '--mode', 'warn'])).out).to.include('set version 1 for crews');
    expect((await run(['rewrite', 'crews', '--set', 'size = number(size)', '--progress', at('p1')])).out).to.include(
      'rewrote 350 documents of crews, 700 read',
    );
    expect((await run(['schema', 'set', 'crews', '--mode', 'enforce'])).out).to.include('refused');
    expect((await run(['schema', 'check', 'crews'])).out).to.include('all fit: 700 documents of crews');
    const refused = await run(['put', 'crews/c-000', '{"size":"3"}']);
    expect(refused.code).not.to.equal(0);
    expect(refused.err).to.include('violates the schema');
    expect((await run(['schema'])).out).to.match(/crews +enforce +2/);
    expect(JSON.parse((await run(['schema', 'show', 'crews', '1'])).out)).to.deep.equal(schema);
    expect((await run(['schema', 'remove', 'crews'])).out).to.include('removed the schema of crews');
    expect((await run(['schema', 'show', 'crews'])).err).to.include('uproar schema propose crews');
  });

  it('writes types that hold for the documents', async () => {
    const pad = { name: 'x', open: true, 'odd-name': { 'a"b{,': 1 }, kind: 'a}, "b' };
    await service.request('PUT', '/v1/data/launch-pads/p-1', pad);
    const path = at('types.ts');
    expect((await run(['types', 'crews', 'launch-pads', '--out', path])).out).to.include('2 collections');
    const text = readFileSync(path, 'utf8');
    expect(text).to.include('export type LaunchPads = z.infer<typeof LaunchPadsSchema>;');
    expect(text).to.include('\n  open: z.boolean(),\n');
    expect(text).to.include('\n  "odd-name": z.object({\n    "a\\"b{,": z.number(),\n  }),\n');
    // The module is run as it is, but for the types.
    const js = text.replace(/^export type .*$/gm, '');
    const here = new URL('./types-under-test.mjs', import.meta.url);
    writeFileSync(here, js);
    try {
      type Checks = Record<'CrewsSchema' | 'LaunchPadsSchema', { safeParse(value: unknown): { success: boolean } }>;
      const { CrewsSchema, LaunchPadsSchema } = (await import(here.href)) as Checks;
      expect(LaunchPadsSchema.safeParse(pad).success).to.equal(true);
      expect(LaunchPadsSchema.safeParse({ ...pad, 'odd-name': {} }).success).to.equal(false);
      expect(CrewsSchema.safeParse(await crew('c-005')).success).to.equal(true);
      expect(CrewsSchema.safeParse({ lead: 3 }).success).to.equal(false);
    } finally {
      const { rmSync } = await import('node:fs');
      rmSync(here, { force: true });
    }
  });

  it('rewrites many documents after a dry run', async () => {
    const split = [
      '--set',
      "first = part(lead, ' ', 1)",
      '--set',
      "number = number(part(lead, ' ', -1))",
      '--merge',
      '{"lead":null}',
    ];
    const where = ['--where', "status = 'away'", '--progress', at('p2')];
    const dry = await run(['rewrite', 'crews', ...where, ...split, '--dry-run']);
    expect(dry.out).to.include('would rewrite 234 documents of crews, 234 read');
    expect(dry.out).to.match(/c-000 +lead Ada 0 → – +first – → Ada +number – → 0/);
    expect(await crew('c-000')).to.deep.include({ lead: 'Ada 0' });
    const done = await run(['rewrite', 'crews', ...where, ...split, '--json']);
    expect(JSON.parse(done.out)).to.deep.equal({ collection: 'crews', looked: 234, written: 234, dryRun: false });
    expect(await crew('c-003')).to.deep.equal({ first: 'Ada', number: 3, size: 3, status: 'away' });
    expect(await crew('c-004')).to.deep.include({ lead: 'Ada 4' });
    expect(existsSync(at('p2'))).to.equal(false);
    const adjusted = await run(['rewrite', 'crews', ...where, '--adjust', '{"/number":{"add":1000}}', '--json']);
    expect(JSON.parse(adjusted.out)).to.deep.include({ written: 234 });
    expect(await crew('c-003')).to.deep.include({ number: 1003 });
    const wrong = await run(['rewrite', 'crews', '--set', 'a = lowr(lead)']);
    expect(wrong.err).to.include('Did you mean "lower"');
    expect((await run(['rewrite', 'crews'])).err).to.include('No change is given');
    expect((await run(['rewrite', 'crews/c-1', '--merge', '{}'])).code).to.equal(2);
  });

  it('resumes after it was killed, and writes each document once', async () => {
    const writes = Array.from({ length: 4000 }, (_, n) => ({
      put: `marks/m-${String(n).padStart(4, '0')}`,
      data: { n: 0 },
    }));
    await service.request('POST', '/v1/commits', { writes });
    const command = ['rewrite', 'marks', '--adjust', '{"/n":{"add":1}}', '--progress', at('p3')];
    for (let kills = 0; kills < 3; kills++) {
      const killed = new Run([...command, kills === 0 ? '--no-resume' : '--resume'], {
        UPROAR_URL: service.url,
        UPROAR_KEY: KEY,
      });
      const before = existsSync(at('p3')) ? readFileSync(at('p3'), 'utf8') : '';
      await until('it has begun', () => existsSync(at('p3')) && readFileSync(at('p3'), 'utf8') !== before, 120_000);
      killed.process.kill('SIGKILL');
      await killed.ended;
    }
    if (existsSync(at('p3'))) {
      const asked = await run(command);
      expect(asked.err).to.include('Continue with --resume');
      const other = await run(['rewrite', 'marks', '--merge', '{"x":1}', '--progress', at('p3'), '--resume']);
      expect(other.err).to.include('had other options');
      expect((await run([...command, '--resume'])).code).to.equal(0);
    }
    const { json } = await service.request(
      'GET',
      `/v1/data/marks?${new URLSearchParams({ summary: 'count()', by: 'n' }).toString()}`,
    );
    expect(json.documents).to.deep.equal([{ id: '~n1', data: { n: 1, 'count()': 4000 } }]);
  });
});
