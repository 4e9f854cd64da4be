import { spawn, type ChildProcess } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect } from 'chai';
import { MAIN } from '../../../test/command-run.js';
import { temporaryDirectory, until } from '../../../test/service.js';

describe('the tour of the demo', () => {
  const folder = temporaryDirectory();
  let demo: ChildProcess;
  let said = '';
  /** The commands of the tour, step by step, as they are printed. */
  let steps: string[][];
  let variables: Record<string, string>;

  before(async () => {
    const bin = join(folder.path, 'bin');
    mkdirSync(bin);
    mkdirSync(join(folder.path, 'tmp'));
    writeFileSync(join(bin, 'uproar'), `#!/bin/sh\nexec "${process.execPath}" "${MAIN}" "$@"\n`, { mode: 0o755 });
    demo = spawn(process.execPath, [MAIN, 'demo', '--port', '0'], {
      env: { PATH: process.env.PATH, NO_COLOR: '1', TMPDIR: join(folder.path, 'tmp') },
      stdio: ['ignore', 'pipe', 'inherit'],
    });
    demo.stdout!.on('data', (text) => (said += String(text)));
    await until('the tour is printed', () => said.includes('Ctrl-C stops'), 120_000);
    steps = said
      .split(/^ {2}\d {2}/m)
      .slice(1)
      .map((step) => [...step.matchAll(/^ {5}((?:uproar|curl) .*)$/gm)].map(([, command]) => command!));
    const [, url, key] = /export UPROAR_URL=(\S+) UPROAR_KEY=(\S+)/.exec(said)!;
    variables = {
      PATH: `${bin}:${process.env.PATH}`,
      NO_COLOR: '1',
      HOME: folder.path,
      UPROAR_URL: url!,
      UPROAR_KEY: key!,
    };
  });
  after(() => {
    demo.kill('SIGKILL');
    folder.remove();
  });

  const type = (command: string) => {
    const child = spawn('bash', ['-c', command], { cwd: folder.path, env: variables, detached: true });
    const run = { out: '', child, code: undefined as number | null | undefined, ended: Promise.resolve() };
    child.stdout.on('data', (text) => (run.out += String(text)));
    child.stderr.on('data', (text) => (run.out += String(text)));
    run.ended = new Promise((resolve) => child.on('close', (code) => resolve(void (run.code = code))));
    return run;
  };
  const run = async (command: string) => {
    const typed = type(command);
    await typed.ended;
    return typed;
  };

  it('has eight steps', () => {
    expect(steps.map(({ length }) => length)).to.deep.equal([2, 2, 1, 4, 2, 2, 3, 3]);
    expect(said).to.match(/docs +http/);
  });

  it('edit and see', async () => {
    const [merge, watch] = steps[0]!;
    const watching = type(watch!);
    await until('it shows the balloon', () => watching.out.includes('altitude'));
    expect((await run(merge!)).code).to.equal(0);
    await until('it shows the change', () => watching.out.includes('777'));
    process.kill(-watching.child.pid!, 'SIGINT');
  });

  it('the same pad, claimed twice', async () => {
    const [first, second] = [await run(steps[1]![0]!), await run(steps[1]![1]!)];
    expect([first.code, second.code]).to.deep.equal([0, 6]);
    expect(second.out).to.include('pads/p-12');
    expect((await run('uproar get pads/p-12 --json')).out).to.include('"claimedBy":"c-1"');
  });

  it('a truck in the valley', async () => {
    const watching = type(steps[2]![0]!);
    const merge = (online: boolean) => run(`uproar merge crews/c-300 '{"truck":{"online":${online}}}'`);
    await merge(true);
    await merge(false);
    await until('it loses its connection', () => watching.out.includes('c-300'));
    const before = watching.out.length;
    await merge(true);
    await until('it is back', () => watching.out.slice(before).includes('c-300'));
    process.kill(-watching.child.pid!, 'SIGINT');
  });

  it('closing the store to strangers', async () => {
    const [ask, close, askAgain, open] = steps[3]!;
    expect((await run(ask!)).out).to.include('"documents":[{');
    expect((await run(close!)).code).to.equal(0);
    expect((await run(askAgain!)).out).to.include('"status":401');
    expect((await run(open!)).code).to.equal(0);
    expect((await run(ask!)).out).to.include('"documents":[{');
  });

  it('a notice that ends by itself', async () => {
    const [put, watch] = steps[4]!;
    expect(put).to.include('--ttl 30s');
    const watching = type(watch!);
    await until('it watches', () => watching.out.includes('changes follow'));
    expect((await run(put!.replace('30s', '20s'))).code).to.equal(0);
    await until('it is shown', () => watching.out.includes('Fog until nine'));
    await until('it has ended', async () => (await run('uproar get notices/fog')).code === 5);
    process.kill(-watching.child.pid!, 'SIGINT');
  });

  it('who is here', async () => {
    const commands = steps[5]!;
    expect(commands[0]).to.match(/ &$/);
    // In the background, as in a shell of its own.
    const holding = type(commands[0]!.replace(/ &$/, ''));
    await until('it is there', async () => (await run(commands[1]!)).out.includes('you'));
    process.kill(-holding.child.pid!, 'SIGINT');
    await until('it has gone', async () => (await run('uproar get online/you')).code === 5);
  });

  it('a server that hears of landings', async () => {
    const [list, deliveries, test] = steps[6]!;
    await until('the radio desk has a hook', async () => (await run(list!)).out.includes('landings'));
    expect((await run(deliveries!)).code).to.equal(0);
    const tested = await run(test!);
    expect(tested.out).to.match(/taken after \d+ ms: (200|503)/);
  });

  it('putting a deleted record back', async () => {
    const before = (await run('uproar get notices/n-007 --json')).out;
    const [remove, journal, revert] = steps[7]!;
    expect((await run(remove!)).code).to.equal(0);
    expect((await run('uproar get notices/n-007')).code).to.equal(5);
    expect((await run(journal!)).out).to.include('- notices/n-007');
    expect((await run(revert!)).out).to.include('restored');
    const after = (await run('uproar get notices/n-007 --json')).out;
    const dataOf = (text: string) => (JSON.parse(text) as { data: object }).data;
    expect(dataOf(after)).to.deep.equal(dataOf(before));
    // Once more undoes the undoing: the record had not been there.
    expect((await run(revert!)).out).to.include('deleted');
  });

  it('ends with nothing left behind', async () => {
    const ended = new Promise((resolve) => demo.once('exit', resolve));
    demo.kill('SIGINT');
    expect(await ended).to.equal(0);
    expect(readdirSync(join(folder.path, 'tmp'))).to.deep.equal([]);
    expect(existsSync(join(folder.path, 'uproar-data'))).to.equal(false);
  });
});
