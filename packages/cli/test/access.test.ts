import { expect } from 'chai';
import { CommandBench, Run } from '../../../test/command-run.js';
import { type TestService, KEY, temporaryDirectory, until } from '../../../test/service.js';

const POLICY = `
anonymous: true
collections:
  flights:
    read: "crew = claim('crew') OR public = TRUE"
    update: "crew = claim('crew') AND crew = was('crew')"
    conceal: [payer]
`;
const FESTIVAL_CASES = new URL('../../../demo/policy-cases.yaml', import.meta.url).pathname;

describe('the command line: who may see and change what', () => {
  const bench = new CommandBench();
  const { run, file } = bench;
  let service: TestService;
  before(() => (service = bench.service));
  before(async () => {
    await service.request('PUT', '/v1/data/flights/f-1', { crew: 'c-1', payer: 'x' });
    await service.request('PUT', '/v1/data/gates/g-1', { visitors: 3 });
  });

  it('makes, lists, rotates and revokes keys', async () => {
    const made = await run([
      'key',
      'create',
      'gate',
      '--scope',
      'write',
      '--collections',
      'gates',
      '--expires-in',
      '2d',
    ]);
    expect(made.out).to.match(/created gate, scope write for gates\. Shown only now:/);
    const key = /uproar-[\w-]{32}/.exec(made.out)![0];
    expect((await run(['get', 'gates/g-1'], undefined, { UPROAR_KEY: key })).code).to.equal(0);
    expect((await run(['get', 'flights/f-1'], undefined, { UPROAR_KEY: key })).code, 'refused').to.equal(4);
    expect((await run(['key', 'list'])).out).to.match(/^gate +write +gates +\d+ s ago +\d+ s ago +in 2 days|in 48 h/m);
    const rotated = JSON.parse((await run(['key', 'rotate', 'gate', '--keep-old', '1h', '--json'])).out) as {
      key: string;
    };
    expect((await run(['get', 'gates/g-1'], undefined, { UPROAR_KEY: key })).code).to.equal(0);
    expect((await run(['key', 'revoke', 'gate'])).out).to.equal('revoked gate\n');
    for (const secret of [key, rotated.key]) {
      const refused = await run(['get', 'gates/g-1'], undefined, { UPROAR_KEY: secret });
      expect(refused).to.deep.include({ code: 4, out: '' });
      expect(refused.err).not.to.include(secret);
    }
    expect((await run(['key', 'revoke', 'gate'])).code).to.equal(5);
    expect((await run(['key', 'create', 'x', '--scope', 'god'])).err).to.include('admin, write or read');
    expect((await run(['key', 'create', 'x', '--expires-in', 'soon'])).code).to.equal(2);
  });

  it('checks, sets, shows and reverts the policy', async () => {
    const path = file('policy.yaml', POLICY);
    const checked = await run(['policy', 'set', path, '--check']);
    expect(checked.out).to.include('valid').and.include('field public');
    expect((await run(['policy', 'set', path, '--note', 'first'])).out).to.include('in force version 1');
    const wrong = await run(['policy', 'set', file('wrong.yaml', POLICY.replace('claim', 'clame'))]);
    expect(wrong.code).to.equal(2);
    expect(wrong.err).to.include('/collections/flights/read').and.include('Did you mean "claim"');
    await run(['policy', 'set', file('none.yaml', 'collections: {}')]);
    expect((await run(['policy', 'versions'])).out).to.match(/1 +\d+ s ago +key:environment +first/);
    expect((await run(['policy', 'show', '1'])).out).to.equal(POLICY);
    expect((await run(['policy', 'revert', '1'])).out).to.include('version 3, as version 1');
    expect((await run(['policy', 'show'])).out).to.equal(POLICY);
    expect((await run(['policy', 'revert', '9'])).code).to.equal(5);
  });

  it('tries what the policy says, and explains it', async () => {
    await run(['policy', 'set', file('policy.yaml', POLICY)]);
    const refused = await run([
      'policy',
      'try',
      'update',
      'flights/f-1',
      '--claims',
      '{"crew":"c-1"}',
      '--merge',
      '{"crew":"c-2"}',
    ]);
    expect(refused.code).to.equal(4);
    expect(refused.out)
      .to.match(/^refused update flights\/f-1/)
      .and.include("no      crew = claim('crew')")
      .and.include("was('crew') = c-1");
    const allowed = await run(['policy', 'try', 'read', 'flights/f-1', '--claims', '{"crew":"c-1"}']);
    expect(allowed.code).to.equal(0);
    expect(allowed.out).to.include('without payer').and.include('{"crew":"c-1"}');
    expect((await run(['policy', 'try', 'update', 'flights/f-1', '--anonymous'])).out).to.include(
      'it does not exist for them',
    );
    expect((await run(['policy', 'try', 'reed', 'flights/f-1'])).err).to.include('read, create, update, delete');
    const json = JSON.parse(
      (await run(['policy', 'try', 'read', 'pads/p-1', '--before', '{}', '--json'])).out,
    ) as object;
    expect(json).to.include({ allowed: false, pointer: null });
  });

  it('runs files of cases without a store, and fails when one does not come out as it should', async () => {
    const environment = { UPROAR_URL: '', UPROAR_KEY: '' };
    const good = await run(['policy', 'test', FESTIVAL_CASES], undefined, environment);
    expect(good.code, good.err).to.equal(0);
    expect(good.out).to.match(/\d+ passed, 0 failed/);
    file('policy.yaml', POLICY);
    const cases = file(
      'cases.yaml',
      'policy: policy.yaml\ncases:\n  - {as: {crew: c-2}, do: read, collection: flights, before: {crew: c-1}, allowed: true}\n' +
        '  - {do: read, collection: flights, before: {public: true, payer: x}, allowed: true, sees: {public: true}}\n',
    );
    const bad = await run(['policy', 'test', cases], undefined, environment);
    expect(bad.code).to.equal(1);
    expect(bad.out)
      .to.include('✗ {"crew":"c-2"} may read flights')
      .and.include('but it is refused: /collections/flights/read')
      .and.include('1 passed, 1 failed');
    const wrong = await run([
      'policy',
      'test',
      file('wrong-cases.yaml', 'policy: policy.yaml\ncases:\n  - {do: reed, collection: a, allowed: true}\n'),
    ]);
    expect(wrong.err).to.include('/cases/0/do').and.include('read, create, update, delete');
    expect(
      (
        await run(
          ['policy', 'test', file('no-policy.yaml', 'cases: [{do: read, collection: a, before: {}, allowed: false}]')],
          undefined,
          environment,
        )
      ).err,
    ).to.include('names no policy');
  });

  it('creates, changes and removes accounts, with the password from the environment or standard input', async () => {
    const made = await run(['account', 'create', 'ada', '--claims', '{"crew":"c-1"}'], 'amber-balloon\n');
    expect(made.out).to.match(/^created ada, [0-9a-f-]{36}/);
    expect((await run(['policy', 'try', 'read', 'flights/f-1', '--account', 'ada'])).code).to.equal(0);
    await run(['account', 'alter', 'ada', '--claims', '{"crew":"c-9"}']);
    expect((await run(['policy', 'try', 'read', 'flights/f-1', '--account', 'ada'])).code).to.equal(4);
    const signIn = () => service.as(null)('POST', '/v1/sessions', { name: 'ada', password: 'amber-balloon' });
    expect((await signIn()).status).to.equal(201);
    await run(['account', 'alter', 'ada', '--disable']);
    expect((await signIn()).status).to.equal(401);
    expect((await run(['account', 'list'])).out).to.match(/ada .* disabled/);
    expect((await run(['account', 'remove', 'ada'])).out).to.equal('removed ada\n');
    expect((await run(['account', 'remove', 'ada'])).code).to.equal(5);
    expect((await run(['account', 'create', 'bo'], 'short')).err).to.include('at least 8 characters');
    expect((await run(['audit', '--event', 'account-created'])).out).to.match(/account-created +key:environment/);
  });

  it('opens a store for a while, says how long, and refuses to do so for the network', async () => {
    const directory = temporaryDirectory();
    const serve = new Run(['serve', '--data', directory.path, '--port', '0', '--open-for', '3s'], {
      UPROAR_ADMIN_KEY: KEY,
    });
    try {
      await until('it says so', () => serve.out.includes('The store is open to everyone'));
      const url = /http:\/\/[\d.:]+/.exec(serve.out)![0];
      expect((await fetch(`${url}/v1/data/flights`)).status).to.equal(200);
      await until('it is closed', () => serve.out.includes('The store is closed again'));
      expect((await fetch(`${url}/v1/data/flights`)).status).to.equal(401);
    } finally {
      serve.process.kill('SIGINT');
      await serve.ended;
    }
    const mistaken = await run(['serve', '--data', directory.path, '--rate-limit', 'often']);
    expect(mistaken).to.deep.include({ code: 2 }).and.to.have.property('err').that.includes('100/10s');
    const refused = await run([
      'serve',
      '--data',
      directory.path,
      '--port',
      '0',
      '--host',
      '0.0.0.0',
      '--open-for',
      '2h',
    ]);
    expect(refused.code).to.equal(2);
    expect(refused.err).to.include('--open-to-the-network');
    expect((await run(['serve', '--data', directory.path, '--tls-cert', 'x.pem'])).err).to.include(
      'both --tls-cert and --tls-key',
    );
    expect(
      (await run(['serve', '--data', directory.path, '--port', '0', '--allow-origin', 'nonsense'])).err,
    ).to.include('is not an origin');
    directory.remove();
  });
});
