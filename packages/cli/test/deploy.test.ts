import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { readFileSync } from 'node:fs';
import { expect } from 'chai';
import { validate } from 'dockerfile-utils';
import { parse } from 'yaml';
import { CommandBench, Run } from '../../../test/command-run.js';

const read = (name: string) => readFileSync(new URL(`../../../deploy/${name}`, import.meta.url), 'utf8');

describe('what runs a service elsewhere', () => {
  const bench = new CommandBench();
  /** What `serve` makes of options and environment, without serving. */
  const settingsOf = async (args: string[], environment: Record<string, string> = {}) => {
    const { code, out, err } = await new Run([...args, '--print-settings'], environment).ended;
    expect(code, err).to.equal(0);
    expect(err).to.equal('');
    return out;
  };

  it('is a Dockerfile without faults, whose service is no root and is asked how it does', async () => {
    const text = read('Dockerfile');
    expect(validate(text).map(({ message }) => message)).to.deep.equal([]);
    expect(text)
      .to.match(/^USER uproar$/m)
      .and.match(/^VOLUME \/var\/lib\/uproar$/m);
    const health = JSON.parse(/HEALTHCHECK[^[]*(\[.*\])$/m.exec(text)![1]!) as string[];
    expect(health[0]).to.equal('node');
    const check = async (port: string) => {
      const child = spawn(process.execPath, health.slice(1), { env: { ...process.env, UPROAR_PORT: port } });
      const [code] = (await once(child, 'exit')) as [number];
      return code;
    };
    expect(await check(new URL(bench.service.url).port)).to.equal(0);
    expect(await check('1'), 'nothing is there').to.equal(1);
    const environment = Object.fromEntries(
      [...text.matchAll(/(UPROAR_\w+)=(\S+)/g)].map(([, name, value]) => [name!, value!]),
    );
    const command = JSON.parse(/^CMD (\[.*\])$/m.exec(text)![1]!) as string[];
    const printed = await settingsOf(command, environment);
    expect(printed)
      .to.match(/^host: 0\.0\.0\.0 /m)
      .and.match(/^drain-for: 5s /m);
  });

  it('is a systemd unit whose command and settings are understood', async () => {
    const unit = read('uproar.service');
    const command = /^ExecStart=\S+ (.*)$/m.exec(unit)![1]!.split(' ');
    const file = bench.file('settings.yaml', read('settings.yaml'));
    const printed = await settingsOf(
      command.map((word) => (word === '/etc/uproar/settings.yaml' ? file : word)),
      { UPROAR_ADMIN_KEY_FILE: '/run/credentials/admin-key' },
    );
    expect(printed).to.match(/^data: \/var\/lib\/uproar +# --data$/m);
    expect(printed).to.match(/^journal-age: 30d +# .*settings.yaml; SIGHUP$/m);
    for (const line of ['DynamicUser=yes', 'NoNewPrivileges=yes', 'ProtectSystem=strict', 'StateDirectory=uproar']) {
      expect(unit.split('\n')).to.include(line);
    }
    expect(unit).to.include('UPROAR_ADMIN_KEY_FILE=%d/admin-key').and.include('LoadCredential=admin-key:');
  });

  it('are dashboards and alerts that ask for metrics there are', async () => {
    const { text } = await bench.service.request('GET', '/metrics');
    const names = new Set([...text.matchAll(/^# TYPE (\S+)/gm)].map(([, name]) => name!));
    const asked = [
      ...(read('dashboard.json') + read('alerts.yaml')).matchAll(/\b((?:uproar|process|nodejs)_[a-z0-9_]+)\b/g),
    ].map(([, name]) => name!.replace(/_(bucket|count|sum)$/, ''));
    expect(asked.length).to.be.above(20);
    for (const name of asked) expect(names, name).to.include(name);
    const documented = [
      ...readFileSync(new URL('../../../docs/operations.md', import.meta.url), 'utf8').matchAll(/`(uproar_[a-z_]+)/g),
    ];
    for (const [, name] of documented) expect(names, name).to.include(name!);
    for (const name of names) {
      if (name.startsWith('uproar_') && name !== 'uproar_info' && name !== 'uproar_writes_total') {
        expect(
          documented.map(([, one]) => one),
          `${name} is described in docs/operations.md`,
        ).to.include(name);
      }
    }
    for (const name of ['prometheus.yaml', 'alerts.yaml']) expect(parse(read(name)), name).to.be.an('object');
  });
});
