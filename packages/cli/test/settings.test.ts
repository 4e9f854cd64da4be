import { writeFileSync } from 'node:fs';
import { expect } from 'chai';
import { parse } from 'yaml';
import { SETTING_NAMES, variableOf } from '../dist/settings/declaration.js';
import { gatherSettings } from '../dist/settings/gather.js';
import { CommandBench, Run } from '../../../test/command-run.js';
import { KEY, until } from '../../../test/service.js';

describe('the settings of a service', () => {
  const bench = new CommandBench();

  it('adds up what an option of a list is given several times', async () => {
    const { out, code } = await new Run(
      ['serve', '--allow-origin', 'https://a.example', '--allow-origin', 'https://b.example', '--print-settings'],
      {},
    ).ended;
    expect(code).to.equal(0);
    expect(out).to.include('https://a.example,https://b.example');
  });

  it('come from options before the environment before the file, and say where from', async () => {
    const file = bench.file(
      'settings.yaml',
      'port: 4701\njournal-age: 30d\nallow-origin: [https://board.example, https://app.example]\nopen-metrics: true\n',
    );
    const environment = {
      UPROAR_JOURNAL_AGE: '12h',
      UPROAR_JOURNAL_SIZE: '1GB',
      UPROAR_ADMIN_KEY: 'a-key-for-this-test-only',
    };
    const { values, given } = gatherSettings({ 'journal-size': '2GB' }, file, environment);
    expect(values).to.include({ port: 4701, 'journal-age': 43_200_000, 'journal-size': 2e9, 'open-metrics': true });
    expect(values['allow-origin']).to.deep.equal(['https://board.example', 'https://app.example']);
    expect([given.get('journal-size')!.from, given.get('journal-age')!.from, given.get('port')!.from]).to.deep.equal([
      '--journal-size',
      'UPROAR_JOURNAL_AGE',
      file,
    ]);
    const printed = await new Run(
      ['serve', '--settings', file, '--print-settings', '--journal-size', '2GB'],
      environment,
    ).ended;
    expect(printed.code).to.equal(0);
    expect(printed.out).to.match(/^journal-age: 12h +# UPROAR_JOURNAL_AGE; SIGHUP$/m);
    expect(printed.out).to.match(/^# admin-key: +# UPROAR_ADMIN_KEY, hidden$/m);
    expect(printed.out).not.to.include(environment.UPROAR_ADMIN_KEY);
    // The output is a valid settings file with the same settings.
    const again = gatherSettings({}, bench.file('printed.yaml', printed.out), {});
    const { 'admin-key': secret, ...printable } = values;
    expect(secret).to.equal(environment.UPROAR_ADMIN_KEY);
    expect(again.values).to.deep.equal(printable);
    expect(
      Object.keys(parse(printed.out) as object).every((name) => (SETTING_NAMES as string[]).includes(name)),
    ).to.equal(true);
  });

  it('are refused with their name, the place and what would be right', async () => {
    const cases: [Record<string, string>, string | undefined, RegExp][] = [
      [{ UPROAR_PORT: 'tcp://10.0.0.1:4680' }, undefined, /port, given by UPROAR_PORT, is wrong: .* is no port/],
      [{}, 'prot: 1', /there is no setting "prot".\s+Did you mean "port"/],
      [{}, 'log-level: loud', /log-level, given by .*wrong.yaml, is wrong/],
      [{}, '- a\n- b', /holds no settings/],
      [{}, 'port: {a: 1}', /"port" takes one value or a list/],
      [{}, 'port: [', /is no YAML/],
      [{ UPROAR_TLS_CERT: '/nowhere.pem' }, undefined, /TLS needs both/],
      [{ UPROAR_SETTINGS: '/nowhere.yaml' }, undefined, /\/nowhere.yaml cannot be read/],
      [{ UPROAR_ADMIN_KEY_FILE: '/nowhere' }, undefined, /\/nowhere cannot be read/],
    ];
    for (const [environment, text, expected] of cases) {
      const options = text === undefined ? [] : ['--settings', bench.file('wrong.yaml', text)];
      const { code, err } = await new Run(['serve', ...options], environment).ended;
      expect(err).to.match(expected);
      expect(code).to.equal(2);
    }
  });

  it('warn of variables that do nothing', () => {
    const { warnings } = gatherSettings({}, undefined, {
      UPROAR_JOURNAL_AGES: '1d',
      UPROAR_URL: 'http://a',
      HOME: '/',
    });
    expect(warnings).to.deep.equal(['UPROAR_JOURNAL_AGES is no setting; did you mean UPROAR_JOURNAL_AGE?']);
    expect(new Set(SETTING_NAMES.map(variableOf)).size).to.equal(SETTING_NAMES.length);
  });

  it('are read again on SIGHUP, kept when they are wrong, and name what must wait', async () => {
    const file = bench.file('live.yaml', 'log-level: warn\n');
    const keyFile = bench.file('key', `${KEY}\n`);
    const run = new Run(
      ['serve', '--data', bench.at('store'), '--port', '0', '--settings', file, '--admin-key-file', keyFile],
      {},
    );
    await until('it serves', () => run.out.includes('console'), 120_000);
    const url = /http:\/\/[\d.:]+/.exec(run.out)![0];
    const ask = () => fetch(`${url}/v1/data/crews`, { headers: { authorization: `Bearer ${KEY}` } });
    expect((await ask()).status, 'the key from the file is taken').to.equal(200);
    expect(run.err).to.equal('');
    writeFileSync(file, 'log-level: info\naccounts: open\n');
    run.process.kill('SIGHUP');
    await until('it is reported', () => run.out.includes('after the next start'));
    expect(run.out).to.include('changed: log-level').and.include('accounts');
    await ask();
    await until('the request is logged', () => run.err.includes('"path":"/v1/data/crews"'));
    writeFileSync(file, 'log-level: 7\n');
    run.process.kill('SIGHUP');
    await until('it complains', () => run.err.includes('the settings stay as they were'));
    expect((await ask()).status).to.equal(200);
    run.process.kill('SIGTERM');
    expect((await run.ended).code).to.equal(0);
  });
});
