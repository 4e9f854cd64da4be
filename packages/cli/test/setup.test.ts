import { expect } from 'chai';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { CommandBench } from '../../../test/command-run.js';
import { HookReceiver } from '../../../test/hook-receiver.js';
import { type TestService, until } from '../../../test/service.js';

const POLICY = `# Who flies with whom is public.
anonymous: true
collections:
  flights:
    read: true # everybody
`;

describe('uproar setup', () => {
  const bench = new CommandBench({ hooks: { networks: ['127.0.0.1'] } });
  let service: TestService;
  let receiver: HookReceiver;
  let folder: string;
  before(async () => {
    service = bench.service;
    receiver = await HookReceiver.start();
    folder = bench.at('festival');
    mkdirSync(join(folder, 'schemas'), { recursive: true });
  });
  after(() => receiver.stop());

  const run = (args: string[], environment: Record<string, string> = {}) =>
    bench.run(['setup', ...args], undefined, { RECEIVER: receiver.url, ...environment });
  const write = (name: string, text: string) => writeFileSync(join(folder, name), text);
  const main = (schemas: string, indexes: string) =>
    write(
      'setup.yaml',
      `schemas: { ${schemas} }\nindexes: { ${indexes} }\nhooks:\n  radio: { collection: flights, url: '\${RECEIVER}', where: n > 1 }\n`,
    );

  it('says what it would do, does it as a whole, and finds no difference afterwards', async () => {
    main('flights: enforce', 'flights: [n]');
    write('policy.yaml', POLICY);
    write('schemas/flights.json', '{"properties":{"n":{"type":"integer"}}}');
    await service.request('PUT', '/v1/data/flights/f-1', { n: 1 });
    const dry = await run(['apply', folder, '--dry-run']);
    expect(dry.out).to.include('+ policy').and.include('+ schema flights  1 documents checked');
    expect(dry.out).to.include('+ index flights n  1 documents to index').and.include('dry run: 4 changes');
    expect((await service.request('GET', '/v1/setup')).json).to.deep.equal({ schemas: {}, indexes: {}, hooks: {} });
    expect((await run(['compare', folder])).code).to.equal(7);
    const applied = await run(['apply', folder, '--note', 'first']);
    expect(applied.out).to.match(/applied 4 changes\n\nThe secret of the hook radio, shown only now:\n\n {2}whsec_/);
    const same = await run(['compare', folder]);
    expect([same.code, same.out]).to.deep.equal([0, `the same The store has the set-up in ${folder}.\n`]);
    expect((await service.request('GET', '/v1/policy')).json).to.include({ text: POLICY, note: 'first' });
    expect((await service.request('PUT', '/v1/data/flights/f-2', { n: 'two' })).status, 'the schema holds').to.equal(
      422,
    );
    expect((await service.as(null)('GET', '/v1/data/flights')).status, 'and the policy').to.equal(200);
    const { indexes } = (await service.request('GET', '/v1/indexes')).json as { indexes: { ready: boolean }[] };
    expect(indexes.map(({ ready }) => ready)).to.deep.equal([true]);
    await service.request('PUT', '/v1/data/flights/f-2', { n: 2 });
    await until('the hook delivers', () => receiver.received.length === 1);
  });

  it('saves a store into a folder that another store can be given', async () => {
    const copy = bench.at('copy');
    const saved = await run(['save', copy]);
    expect(saved.out.match(/written/g)).to.have.length(3);
    expect(readFileSync(join(copy, 'policy.yaml'), 'utf8'), 'with its comments').to.equal(POLICY);
    expect(readFileSync(join(copy, 'setup.yaml'), 'utf8')).not.to.include('whsec_');
    expect((await run(['compare', copy])).code).to.equal(0);
    expect((await run(['check', copy])).out).to.include('sound');
  });

  it('shows differences so that a person can read them, and leaves or removes what the folder lacks', async () => {
    write('policy.yaml', POLICY.replace('true # everybody', `"n > 3"`));
    main('flights: warn', '');
    await service.request('POST', '/v1/hooks', { name: 'other', collection: 'flights', url: receiver.url });
    const { out } = await run(['compare', folder]);
    expect(out).to.include('~ policy').and.include('-    read: true # everybody').and.include('+    read: "n > 3"');
    expect(out).to.include('~ schema flights').and.include('-mode: enforce').and.include('+mode: warn');
    expect(out).to.include('  index flights n  only in the store; it stays').and.include('  hook other');
    await run(['apply', folder]);
    expect((await service.request('GET', '/v1/setup')).json).to.have.nested.property('hooks.other');
    await run(['apply', folder, '--remove']);
    const { indexes, hooks } = (await service.request('GET', '/v1/setup')).json as { indexes: object; hooks: object };
    expect([indexes, Object.keys(hooks)]).to.deep.equal([{}, ['radio']]);
  });

  it('changes nothing when one step is refused', async () => {
    await service.request('PUT', '/v1/data/flights/f-3', { n: 'three' });
    main('flights: enforce', 'flights: [n]');
    write('policy.yaml', POLICY);
    const before = (await service.request('GET', '/v1/setup')).json;
    const dry = await run(['apply', folder, '--dry-run']);
    expect([dry.code, dry.out]).to.deep.equal([1, dry.out]);
    expect(dry.out).to.include('1 documents of flights do not fit: f-3');
    const refused = await run(['apply', folder]);
    expect([refused.code, refused.err]).to.deep.equal([6, refused.err]);
    expect(refused.err).to.include('schema flights: 1 documents of flights do not fit');
    expect((await service.request('GET', '/v1/setup')).json).to.deep.equal(before);
    // Also where the state has changed since the plan was made.
    const { store } = service.service;
    const author = { kind: 'key' as const, name: 'test' };
    const steps = [
      { kind: 'schema-removed' as const, timeMs: 1, collection: 'flights' },
      { kind: 'policy' as const, timeMs: 1, author, text: POLICY, ifVersion: 1 },
    ];
    let problem: { problem: { type: string } } | undefined;
    await store.log.propose({ kind: 'setup', timeMs: 1, steps }).catch((error: typeof problem) => (problem = error));
    expect(problem!.problem.type).to.equal('/problems/version-mismatch');
    expect((await service.request('GET', '/v1/setup')).json).to.deep.equal(before);
  });

  it('checks a folder without a store, and says where a mistake is', async () => {
    expect((await run(['check', folder])).code).to.equal(0);
    expect((await run(['check', folder], { RECEIVER: undefined as never })).err).to.include('RECEIVER');
    main('flights: enforce', "flights: ['n,-n']");
    write('schemas/flights.json', '{"type":"no such type"}');
    write('policy.yaml', 'collections: { flights: { read: "n >" } }');
    const { code, out } = await run(['check', folder]);
    expect(code).to.equal(7);
    expect(out).to.include('wrong policy').and.include('wrong schema flights');
    expect(out).to.include('wrong index flights n,-n: An index names each field once.');
    write('setup.yaml', 'indexs: {}');
    expect((await run(['check', folder])).err).to.include('indexs');
    expect((await run(['apply', bench.at('nowhere')])).code).to.equal(2);
    const cases = new URL('../../../demo/', import.meta.url).pathname;
    expect((await run(['check', cases])).out).to.match(/\d+ passed, 0 failed\nsound/);
  });
});
