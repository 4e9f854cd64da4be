import { execFileSync, spawn } from 'node:child_process';
import { cpSync, existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { expect } from 'chai';
import { Windows } from '../../console/test/windows.js';
import { KEY, temporaryDirectory, until } from '../../../test/service.js';

const ROOT = fileURLToPath(new URL('../../../', import.meta.url));

/** A program that is written against the packages of the client, as it would be. */
const PROGRAM = `
import { connect } from '@uproar/client';
const store = connect(process.env.UPROAR_URL, { token: process.env.UPROAR_KEY });
await store.collection('pads').put('p-1', { name: 'Meadow', free: true });
const { documents } = await store.collection('pads').where\`free = \${true}\`.list();
console.log(documents.map(({ data }) => data.name).join());
store.close();
`;

/** Typed programs for each package for apps. */
const TYPED = {
  'client.ts': `import { connect } from '@uproar/client';
export const named = async () => (await connect('http://a').collection('pads').get('p-1'))?.data.name;`,
  'react.tsx': `import { connect } from '@uproar/client';
import { useDocument } from '@uproar/react';
const pads = connect('http://a').collection('pads');
export const Pad = ({ id }: { id: string }) => <p>{String(useDocument(pads, id).document?.data.name)}</p>;`,
  'vue.ts': `import { connect } from '@uproar/client';
import { useWatch } from '@uproar/vue';
export const view = useWatch(() => connect('http://a').collection('pads').watch());`,
};

describe('the packages, installed into an empty folder', () => {
  const packed = temporaryDirectory();
  const folder = temporaryDirectory();
  /** Where the command is installed for everybody, as the quick start says. */
  const everywhere = temporaryDirectory();
  const windows = new Windows();
  let service: ReturnType<typeof spawn>;
  let url: string;
  const command = join(folder.path, 'node_modules/.bin/uproar');
  const environment = () => ({ PATH: process.env.PATH, NO_COLOR: '1', UPROAR_URL: url, UPROAR_KEY: KEY });
  const run = (...args: string[]) => execFileSync(command, args, { env: environment(), encoding: 'utf8' });

  before(async () => {
    execFileSync(process.execPath, [join(ROOT, 'scripts/pack.mjs'), packed.path], { stdio: 'ignore' });
    const packages = readdirSync(packed.path).map((name) => join(packed.path, name));
    writeFileSync(join(folder.path, 'package.json'), '{"private":true,"type":"module"}\n');
    // Nothing may come along that does not run on this Node.js.
    const quiet = ['--engine-strict', '--prefer-offline', '--no-audit', '--no-fund', '--loglevel=error'];
    // SQLite takes minutes to compile; the binary of this checkout is the same.
    execFileSync('npm', ['install', '--ignore-scripts', ...quiet, ...packages, 'react', '@types/react', 'vue'], {
      cwd: folder.path,
      stdio: 'pipe',
    });
    const forAll = ['install', '--global', '--prefix', everywhere.path, '--ignore-scripts', ...quiet];
    const uproar = packages.find((path) => /uproar-\d/.test(path))!;
    execFileSync('npm', [...forAll, uproar], { cwd: folder.path, stdio: 'pipe' });
    for (const modules of [
      join(folder.path, 'node_modules'),
      join(everywhere.path, 'lib/node_modules/uproar/node_modules'),
    ]) {
      const sqlite = join(modules, 'better-sqlite3');
      expect(existsSync(join(sqlite, 'binding.gyp')), `${sqlite} can be compiled`).to.equal(true);
      cpSync(join(ROOT, 'node_modules/better-sqlite3/build'), join(sqlite, 'build'), { recursive: true });
    }

    service = spawn(
      join(everywhere.path, 'bin/uproar'),
      ['serve', '--data', join(folder.path, 'data'), '--port', '0'],
      {
        env: { PATH: process.env.PATH, NO_COLOR: '1', UPROAR_ADMIN_KEY: KEY },
        stdio: ['ignore', 'pipe', 'inherit'],
      },
    );
    let said = '';
    service.stdout!.on('data', (text) => (said += String(text)));
    await until('it serves', () => said.includes('/console/'), 120_000);
    url = /http:\/\/[\d.:]+/.exec(said)![0];
  });
  after(async () => {
    const ended = new Promise((resolve) => service.once('exit', resolve));
    service.kill('SIGTERM');
    await ended;
    for (const { remove } of [packed, folder, everywhere]) remove();
  });

  it('hold what they should, and nothing else', () => {
    const files = readdirSync(join(folder.path, 'node_modules/uproar'));
    expect(files).to.have.members(['LICENSE', 'README.md', 'dist', 'node_modules', 'package.json']);
    for (const name of ['client', 'client/node_modules/@uproar/core', 'vue', 'react']) {
      const inside = join(folder.path, 'node_modules/@uproar', name);
      expect(existsSync(join(inside, 'LICENSE')), name).to.equal(true);
      expect(existsSync(join(inside, 'src')), name).to.equal(false);
    }
    const manifest = JSON.parse(readFileSync(join(folder.path, 'node_modules/uproar/package.json'), 'utf8')) as {
      dependencies: Record<string, string>;
    };
    // Traces need packages that the user installs.
    expect(Object.keys(manifest.dependencies)).to.include('better-sqlite3').and.not.to.include('@opentelemetry/api');
    expect(existsSync(join(folder.path, 'node_modules/@opentelemetry/sdk-trace-base'))).to.equal(false);
  });

  it('put, get and watch from the command line', async () => {
    const watch = spawn(command, ['watch', 'balloons', '--json'], {
      env: environment(),
      stdio: ['ignore', 'pipe', 'inherit'],
    });
    let heard = '';
    watch.stdout.on('data', (text) => (heard += String(text)));
    await until('it watches', () => run('devices', '--json').includes('balloons'), 120_000);
    run('put', 'balloons/b-1', '{"name":"Amber"}');
    await until('the change comes', () => heard.includes('Amber'));
    watch.kill('SIGINT');
    expect(run('get', 'balloons/b-1')).to.include('Amber');
  });

  it('show the console', async () => {
    const page = await windows.signIn(url, 'data/balloons', KEY);
    await page.locator('[data-row]').filter({ hasText: 'Amber' }).waitFor();
    await page.context().close();
  });

  it('let an app write and read', () => {
    writeFileSync(join(folder.path, 'program.js'), PROGRAM);
    const said = execFileSync(process.execPath, ['program.js'], {
      cwd: folder.path,
      env: environment(),
      encoding: 'utf8',
    });
    expect(said.trim()).to.equal('Meadow');
  });

  it('are typed, and work in one install of the client alone', () => {
    const alone = temporaryDirectory();
    try {
      writeFileSync(join(alone.path, 'package.json'), '{"private":true,"type":"module"}\n');
      const client = readdirSync(packed.path).find((name) => name.includes('client'))!;
      const quiet = ['--prefer-offline', '--no-audit', '--no-fund', '--loglevel=error'];
      execFileSync('npm', ['install', ...quiet, join(packed.path, client)], { cwd: alone.path, stdio: 'pipe' });
      writeFileSync(join(alone.path, 'program.js'), PROGRAM);
      const said = execFileSync(process.execPath, ['program.js'], {
        cwd: alone.path,
        env: environment(),
        encoding: 'utf8',
      });
      expect(said.trim()).to.equal('Meadow');
    } finally {
      alone.remove();
    }
    for (const [name, text] of Object.entries(TYPED)) writeFileSync(join(folder.path, name), text);
    const options = '--noEmit --strict --jsx react-jsx --module nodenext --target es2022 --lib es2024,dom';
    const tsc = join(ROOT, 'node_modules/.bin/tsc');
    execFileSync(tsc, [...options.split(' '), ...Object.keys(TYPED)], { cwd: folder.path, stdio: 'inherit' });
  });

  it('serve the client as one file, and the documentation', async () => {
    expect(await (await fetch(`${url}/docs/`)).text()).to.include('Quick start');
    const { status, headers } = await fetch(`${url}/client/uproar.js`);
    expect([status, headers.get('content-type')]).to.deep.equal([200, 'text/javascript; charset=utf-8']);
  });
});
