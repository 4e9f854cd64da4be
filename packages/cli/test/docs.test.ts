import { execFileSync, spawn, spawnSync, type ChildProcess } from 'node:child_process';
import {
  copyFileSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { dirname, join, relative, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { expect } from 'chai';
import { chromium } from 'playwright-core';
import { parse as parseYaml } from 'yaml';
import { CHROMIUM } from '../../../test/chromium.js';
import { MAIN } from '../../../test/command-run.js';
import { KEY, temporaryDirectory, until } from '../../../test/service.js';

const ROOT = fileURLToPath(new URL('../../../', import.meta.url));

/** Commands that go on until they are ended. */
const LASTING =
  /^(\w+=\S+ )*uproar (serve(?!.*--(print-settings|help))|watch|present|demo)|^curl (-0 )?-N|^uproar journal.* --follow|^(\w+=\S+ )*(sh|python3) docs\/recipes/;

/** Commands that may end otherwise than with 0, as the pages say. */
const MEANT: [string, number][] = [
  // It ends so where it finds something to mend, such as a policy in which something is hardly meant.
  ['uproar doctor', 1],
  // The command shows a refusal on purpose.
  ['uproar policy try', 4],
  // No connection has the id that stands in the page.
  ['uproar devices end', 5],
  // The folder differs from the store by then.
  ['uproar setup compare', 7],
  // The receiver in the page is made up, and so is the seq.
  ['uproar hook test', 1],
  ['uproar hook resume landings --after', 2],
];

/** A block of a page: its language, what else its fence says, and its text. */
interface Block {
  language: string;
  /** The name of the file, or `setup` for commands that set up the machine. */
  name: string | undefined;
  text: string;
}

function blocksOf(page: string): Block[] {
  const text = readFileSync(join(ROOT, page), 'utf8');
  return [...text.matchAll(/^```(\w*) ?(\S*)\n([\s\S]*?)^```/gm)].map(([, language, name, inner]) => ({
    language: language!,
    name: name === '' ? undefined : name,
    text: inner!,
  }));
}

/** The commands of a block. A command continues after a backslash at the end of a line, and within single quotes. */
function commandsOf(text: string): string[] {
  const commands: string[] = [];
  let command = '';
  for (const line of text.replace(/ *\\\n */g, ' ').split('\n')) {
    command += (command === '' ? '' : '\n') + line;
    const quotes = command.replace(/\\./g, '').match(/'/g)?.length ?? 0;
    if (quotes % 2 === 1) continue;
    if (command.trim() !== '' && !command.startsWith('#')) commands.push(command.replace(/ +#.*$/, ''));
    command = '';
  }
  return commands;
}

const PAGES = [
  'README.md',
  ...readdirSync(join(ROOT, 'docs'), { recursive: true })
    .map((name) => join('docs', String(name)))
    .filter((name) => name.endsWith('.md')),
].sort();

describe('the documentation', () => {
  const folder = temporaryDirectory();
  const bin = join(folder.path, 'bin');
  let stores = 0;
  let demo: ChildProcess;
  let url: string;

  before(async () => {
    mkdirSync(bin);
    writeFileSync(join(bin, 'uproar'), `#!/bin/sh\nexec "${process.execPath}" "${MAIN}" "$@"\n`, { mode: 0o755 });
    demo = spawn(process.execPath, [MAIN, 'demo', '--no-devices', '--port', '0', '--data', join(folder.path, 'demo')], {
      env: { PATH: process.env.PATH, NO_COLOR: '1', UPROAR_ADMIN_KEY: KEY },
      stdio: ['ignore', 'pipe', 'inherit'],
    });
    let said = '';
    demo.stdout!.on('data', (text) => (said += String(text)));
    await until('the festival is on', () => said.includes('Ctrl-C'), 120_000);
    url = /http:\/\/[\d.:]+/.exec(said)![0];
  });
  after(async () => {
    const ended = new Promise((resolve) => demo.once('exit', resolve));
    demo.kill('SIGTERM');
    await ended;
    folder.remove();
  });

  /** A folder where the commands of a page are run, with what they name lying in it. */
  function desk(page: string): string {
    const path = join(folder.path, page.replaceAll('/', '-'));
    mkdirSync(path);
    for (const name of ['docs', 'demo', 'deploy']) symlinkSync(join(ROOT, name), join(path, name));
    for (const { language, name, text } of blocksOf(page)) {
      if (language !== 'sh' && name !== undefined) writeFileSync(join(path, name), text);
    }
    mkdirSync(join(path, '.config/fish/completions'), { recursive: true });
    writeFileSync(join(path, 'balloon.png'), Buffer.from('89504e470d0a1a0a', 'hex'));
    if (page === 'README.md') copyFileSync(join(ROOT, 'demo/data/balloons.ndjson'), join(path, 'balloons.ndjson'));
    writeFileSync(join(path, 'crews.csv'), 'number,name\nc-900,Owls\n');
    writeFileSync(join(path, 'tower.key'), KEY);
    return path;
  }

  for (const page of PAGES) {
    const commands = blocksOf(page)
      .filter(({ language, name }) => language === 'sh' && name !== 'setup')
      .flatMap(({ text }) => commandsOf(text));
    if (commands.length === 0) continue;
    it(`has commands that can be typed unchanged: ${page}`, async () => {
      const cwd = desk(page);
      const variables: Record<string, string> = {
        PATH: `${bin}:${process.env.PATH}`,
        HOME: cwd,
        NO_COLOR: '1',
        UPROAR_URL: url,
        UPROAR_KEY: KEY,
        KEY,
        UPROAR_ADMIN_KEY: KEY,
        UPROAR_PROFILES: join(cwd, 'profiles.json'),
      };
      const lasting: { command: string; child: ChildProcess; said: () => string }[] = [];
      try {
        for (const written of commands) {
          const command = written
            .replaceAll('npm run -s uproar -- ', 'uproar ')
            .replace(/^npm run (demo|build|test)$/, 'true')
            .replace(/^npm test$/, 'true');
          if (LASTING.test(command)) lasting.push(await begin(command, cwd, variables));
          else if (command.startsWith('export ')) {
            for (const [, name, value] of command.matchAll(/(\w+)=(\S+)/g)) {
              // Replaces the address and the key in the text by those of the test store.
              if (!['UPROAR_URL', 'UPROAR_KEY'].includes(name!)) variables[name!] = value!;
            }
          } else await run(command, cwd, variables);
        }
        for (const { command, child, said } of lasting) {
          expect(child.exitCode, `${command}\n${said()}`).to.be.oneOf([null, 0]);
        }
      } finally {
        for (const { child } of lasting) if (child.exitCode === null) process.kill(-child.pid!, 'SIGKILL');
      }
    });
  }

  /** Starts what goes on until it is ended, and waits until it has said something. */
  async function begin(command: string, cwd: string, variables: Record<string, string>) {
    const environment = { ...variables };
    if (command.includes('uproar serve')) {
      environment.UPROAR_PORT = '0';
      environment.UPROAR_DATA = join(cwd, `data-${stores++}`);
      delete environment.UPROAR_KEY;
    }
    const child = spawn('bash', ['-c', `exec ${command.replace(/^((?:\w+=\S+ )+)/, 'env $1')}`], {
      cwd,
      env: environment,
      detached: true,
    });
    let said = '';
    child.stdout.on('data', (text) => (said += String(text)));
    child.stderr.on('data', (text) => (said += String(text)));
    const quiet = /recipes|watch|--follow/.test(command);
    await until(
      `"${command}" says something`,
      () => said !== '' || (quiet && child.exitCode === null) || child.exitCode !== null,
      30_000,
    );
    if (command.includes('uproar serve') && child.exitCode === null) {
      await until(`"${command}" serves`, () => said.includes('/console/') || child.exitCode !== null, 120_000);
      expect(child.exitCode, `${command}\n${said}`).to.equal(null);
      // On that page, what follows is about this store.
      if (cwd.endsWith('quick-start.md')) variables.UPROAR_URL = /http:\/\/[\d.:]+/.exec(said)![0];
    }
    return { command, child, said: () => said };
  }

  async function run(command: string, cwd: string, variables: Record<string, string>): Promise<void> {
    const child = spawn('bash', ['-c', `set -o pipefail\n${command}`], { cwd, env: variables });
    let said = '';
    child.stdout.on('data', (text) => (said += String(text)));
    child.stderr.on('data', (text) => (said += String(text)));
    const code = await new Promise((resolve) => child.on('close', resolve));
    const fine = MEANT.find(([start]) => command.startsWith(start))?.[1] ?? 0;
    if (fine !== code) expect(code, `${command}\n${said}`).to.equal(0);
    expect(said, command).not.to.match(/"status":\s*[45]\d\d/);
  }

  for (const page of PAGES) {
    const programs = blocksOf(page).filter(({ language }) => language === 'ts');
    if (programs.length === 0) continue;
    it(`has programs that run unchanged: ${page}`, async () => {
      const text = programs.map((block) => block.text).join('\n');
      const imports = [...new Set(text.match(/^import .*$/gm) ?? [])];
      if (!text.includes("from '@uproar/client'")) imports.push("import { connect } from '@uproar/client';");
      const body = text.replace(/^import .*$/gm, '');
      // What a page takes for granted: an address, a key, and a store where it makes none itself.
      const granted = [
        `const url = ${JSON.stringify(url)};`,
        `const key = ${JSON.stringify(KEY)};`,
        ...(body.includes('const store =') ? [] : ['const store = connect(url, { token: key });']),
        `const session = { accessToken: () => Promise.resolve(key) };`,
        `const blob = new Blob(['a picture']);`,
        `const image = { src: '' };`,
        `const directory = ${JSON.stringify(join(folder.path, 'outbox'))};`,
      ].filter((line) => !new RegExp(`const ${/const (\w+)/.exec(line)![1]} =`).test(body));
      const file = join(ROOT, 'packages/client/test', `documentation-${page.replaceAll(/\W/g, '-')}.ts`);
      const program = `${imports.join('\n')}\n${granted.join('\n')}\n${body.replaceAll('http://127.0.0.1:4680', url)}\nsetTimeout(() => process.exit(0), 500);\n`;
      writeFileSync(file, program);
      try {
        const said = await new Promise<string>((resolve) => {
          const child = spawn(process.execPath, ['--import', 'tsx', file], { cwd: ROOT });
          let out = '';
          child.stdout.on('data', (piece) => (out += String(piece)));
          child.stderr.on('data', (piece) => (out += String(piece)));
          child.on('close', (code) => resolve(`${code}\n${out}`));
        });
        expect(said.split('\n')[0], `${program}\n${said}`).to.equal('0');
      } finally {
        rmSync(file);
      }
    });
  }

  for (const page of PAGES) {
    for (const { language, text } of blocksOf(page)) {
      if (language !== 'tsx' && language !== 'vue') continue;
      it(`has components that compile: ${page}, ${language}`, () => {
        const script = language === 'vue' ? /<script setup lang="ts">\n([^]*)<\/script>/.exec(text)![1]! : text;
        const file = join(ROOT, 'packages/react/test', `documentation-${page.replaceAll(/\W/g, '-')}.tsx`);
        writeFileSync(file, `declare const key: string;\n${script}\nexport {};\n`);
        const options =
          '--noEmit --strict --jsx react-jsx --module nodenext --target es2022 --lib es2024,dom --skipLibCheck';
        try {
          const tsc = join(ROOT, 'node_modules/.bin/tsc');
          const { status, stdout } = spawnSync(tsc, [...options.split(' '), file], { cwd: ROOT, encoding: 'utf8' });
          expect(status, stdout).to.equal(0);
        } finally {
          rmSync(file);
        }
      });
    }
  }

  it('has pages for browsers that work unchanged', async () => {
    const browser = await chromium.launch(CHROMIUM);
    try {
      for (const page of PAGES) {
        for (const { language, text } of blocksOf(page)) {
          if (language !== 'html') continue;
          const tab = await browser.newPage();
          const faults: string[] = [];
          tab.on('pageerror', (error) => faults.push(error.message));
          await tab.route('**/page-of-the-documentation', (route) =>
            route.fulfill({ contentType: 'text/html', body: text.replaceAll('http://127.0.0.1:4680', url) }),
          );
          await tab.goto(`${url}/page-of-the-documentation`);
          await tab.waitForTimeout(500);
          expect(faults, `${page}\n${text}`).to.deep.equal([]);
          await tab.close();
        }
      }
    } finally {
      await browser.close();
    }
  });

  it('has JSON and YAML that can be read', () => {
    for (const page of PAGES) {
      for (const { language, text } of blocksOf(page)) {
        // Dots stand for omitted parts.
        if (language === 'json') {
          const whole = text.replace(/,?…/g, (dots) => (dots.length > 1 ? '' : '…'));
          for (const part of whole.split(/\n\n/))
            expect(() => void JSON.parse(part), `${page}\n${part}`).not.to.throw();
        }
        if (language === 'yaml') expect(parseYaml(text), page).to.be.an('object');
      }
    }
  });

  it('has links that lead somewhere', () => {
    const anchorsOf = (file: string) =>
      [...readFileSync(file, 'utf8').matchAll(/^#+ (.*)$/gm)].map(([, heading]) =>
        heading!
          .toLowerCase()
          .replace(/[^\p{L}\p{N} _-]/gu, '')
          .replaceAll(' ', '-'),
      );
    for (const page of [...PAGES, 'ARCHITECTURE.md', 'CONTRIBUTING.md', 'CHANGELOG.md']) {
      const text = readFileSync(join(ROOT, page), 'utf8').replace(/^```[\s\S]*?^```/gm, '');
      for (const [, address] of text.matchAll(/\]\(([^)\s]+)\)/g)) {
        if (/^[a-z]+:/.test(address!)) continue;
        const [path, fragment] = address!.split('#');
        const file = path === '' ? join(ROOT, page) : resolve(ROOT, dirname(page), path!);
        expect(existsSync(file), `${page} leads to ${relative(ROOT, file)}`).to.equal(true);
        if (fragment && file.endsWith('.md'))
          expect(anchorsOf(file), `${page} leads to ${address}`).to.include(fragment);
      }
    }
  });

  it('names tests that there are, for each of the guarantees', () => {
    const text =
      readFileSync(join(ROOT, 'docs/guarantees.md'), 'utf8') + readFileSync(join(ROOT, 'docs/security.md'), 'utf8');
    const tests = execFileSync('git', ['ls-files', '--cached', '--others', '--exclude-standard', '*.test.ts'], {
      cwd: ROOT,
      encoding: 'utf8',
    });
    const named = [...text.matchAll(/`(?:[\w/-]+\/)?([\w-]+\.test\.ts)`/g)].map(([, name]) => name!);
    expect(named.length).to.be.above(15);
    for (const name of named) expect(tests, name).to.include(`/${name}`);
  });

  it('is served as plain pages, quickly, with all they need', async () => {
    const seen = new Set<string>();
    const next = ['/docs/'];
    while (next.length > 0) {
      const path = next.pop()!;
      if (seen.has(path)) continue;
      seen.add(path);
      const answer = await fetch(url + path);
      expect(answer.status, path).to.equal(200);
      if (!answer.headers.get('content-type')?.startsWith('text/html')) continue;
      const text = await answer.text();
      // Only the recipe for browsers and the calculator are programs.
      if (!/\/(recipes\/board|sizing)/.test(path)) expect(text, path).not.to.include('<script');
      expect(text.length, path).to.be.below(160_000);
      for (const [, address] of text.matchAll(/(?:href|src)="([^"#]+)[^"]*"/g)) {
        const to = new URL(address!, url + path);
        if (to.origin === url && to.pathname.startsWith('/docs/')) next.push(to.pathname);
      }
    }
    expect(seen.size).to.be.above(25);
  });
});
