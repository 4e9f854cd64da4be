// Brings a checkout to where it can run: installs missing packages and builds stale parts; prints nothing if everything is ready.
// Uses nothing but what Node.js itself brings.
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';

export const root = fileURLToPath(new URL('..', import.meta.url));
const stampFile = join(root, '.ready.json');

/** Installs npm packages, compiles the TypeScript and builds the console, each only if it is needed. */
export function makeReady() {
  requireNode();
  if (!isInstalled()) {
    console.log('installing packages (the first time takes some minutes)');
    // One of the packages would report its installation to its makers.
    run('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error'], { SCARF_ANALYTICS: 'false' });
  }
  const sources = ['core', 'protocol', 'service', 'client', 'vue', 'react', 'cli'].map(
    (name) => `packages/${name}/src`,
  );
  step(
    'compiled',
    [...sources, 'demo/src', 'demo/board/src', 'tsconfig.base.json'],
    join(root, 'packages/cli/dist/main.js'),
    'compiling',
    () => run('npx', ['--no-install', 'tsc', '-b']),
  );
  step(
    'client file',
    [...sources.slice(0, 2), 'packages/client/src', 'packages/client/bundle.mjs'],
    join(root, 'packages/client/dist/bundle/uproar.js'),
    'bundling the client',
    () => run('npm', ['run', '--silent', 'build', '-w', 'packages/client']),
  );
  step(
    'board',
    [...sources.slice(0, 2), 'packages/client/src', 'packages/react/src', 'demo/board'],
    join(root, 'demo/dist/board/board.js'),
    'bundling the public board',
    () => run('npm', ['run', '--silent', 'build', '-w', 'demo']),
  );
  step(
    'documentation',
    ['docs', 'deploy', 'scripts/build-docs.mjs', 'scripts/docs.css'],
    join(root, 'packages/cli/dist/docs/index.html'),
    'making the pages of the documentation',
    () => run(process.execPath, ['scripts/build-docs.mjs']),
  );
  const consoleSources = [
    'packages/console/src',
    'packages/console/public',
    'packages/console/index.html',
    'packages/console/vite.config.ts',
  ];
  step(
    'console',
    [...consoleSources, ...sources.slice(0, 5)],
    join(root, 'packages/console/dist/index.html'),
    'building the console',
    () => run('npm', ['run', '--silent', 'build', '-w', 'packages/console']),
  );
  // Last, because it starts the service with all its pages.
  step(
    'command line',
    [...sources.slice(0, 4), 'packages/cli/src', 'packages/cli/bundle.mjs', 'packages/cli/precompile.mjs'],
    join(root, 'packages/cli/dist/bundled/main.js'),
    'bundling the command line',
    () => run(process.execPath, ['packages/cli/bundle.mjs']),
  );
}

/** Debian's builds of Chromium. The first has no windows, and needs a fifth less CPU. */
const CHROMIUM = ['chromium-headless-shell', 'chromium'];

/** Makes sure that one of Debian's builds of Chromium is there, for the tests of the console. Returns its path. */
export function makeChromiumReady() {
  if (process.env.CHROMIUM_PATH && existsSync(process.env.CHROMIUM_PATH)) return process.env.CHROMIUM_PATH;
  const find = () => CHROMIUM.map((name) => `/usr/bin/${name}`).find((path) => existsSync(path));
  const found = find();
  if (found) return found;
  for (const name of CHROMIUM) {
    const path = installFromDebian([name, 'fonts-dejavu-core'], 'The tests need') && find();
    if (path) return path;
  }
  console.error('Chromium is missing and could not be installed. The tests of the console need it:');
  console.error(`run "apt-get install ${CHROMIUM[0]}" as root, or set CHROMIUM_PATH to where it is.`);
  process.exit(1);
}

/** The log service of a cluster. */
const ETCD = { name: 'etcd', from: 'etcd-server' };

/** The programs that the tests use, and the Debian packages that contain them. */
const TOOLS = [
  { name: 'curl', from: 'curl' },
  { name: 'jq', from: 'jq' },
  { name: 'python3', from: 'python3' },
  { name: 'script', from: 'bsdutils' },
  { name: 'openssl', from: 'openssl', ask: 'version' },
  { name: 'cc', from: 'gcc' },
  ETCD,
];

/** Programs that only the long tests use. */
const LONG_TOOLS = [
  { name: 'nginx', from: 'nginx-light', ask: '-v' },
  { name: 'haproxy', from: 'haproxy', ask: '-v' },
  { name: 'javac', from: 'openjdk-17-jdk-headless' },
  { name: 'curl-config', from: 'libcurl4-openssl-dev' },
];

/** Makes sure that the programs which the tests use are there. `long`: also those of the long tests. */
export function makeToolsReady({ long = false } = {}) {
  install(long ? [...TOOLS, ...LONG_TOOLS] : TOOLS, 'The tests need');
}

/** Makes sure that etcd is there, for a demo with several nodes. */
export function makeEtcdReady() {
  install([ETCD], 'A cluster needs');
}

function install(wanted, why) {
  const missing = () => wanted.filter(({ name, ask = '--version' }) => spawnSync(name, [ask]).status !== 0);
  const packages = missing().map(({ from }) => from);
  if (packages.length === 0 || (installFromDebian(packages, why) && missing().length === 0)) return;
  console.error(`${packages.join(', ')} could not be installed. ${why} them:`);
  console.error(`run "apt-get install ${packages.join(' ')}" as root.`);
  process.exit(1);
}

/** Installs Debian packages, where that can be done without asking. Returns whether it was. */
function installFromDebian(packages, why) {
  if (process.platform !== 'linux' || !existsSync('/usr/bin/apt-get')) return false;
  console.log(`${why} ${packages.join(', ')}, which this machine lacks: installing with apt-get.`);
  const prefix = process.getuid?.() === 0 ? [] : ['sudo', '-n'];
  const apt = (...args) => {
    const [command, ...rest] = [...prefix, 'apt-get', ...args];
    const environment = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' };
    return spawnSync(command, rest, { stdio: ['ignore', 'ignore', 'inherit'], env: environment }).status === 0;
  };
  return apt('update', '-qq') && apt('install', '-y', '-qq', '--no-install-recommends', ...packages);
}

/** Runs a command in the checkout; ends the process when it fails. */
export function run(command, args, environment = {}) {
  const { status, error } = spawnSync(command, args, {
    cwd: root,
    stdio: ['ignore', 'inherit', 'inherit'],
    env: { ...process.env, ...environment },
  });
  if (status === 0) return;
  console.error(`"${[command, ...args].join(' ')}" failed${error ? `: ${error.message}` : ''}`);
  process.exit(status ?? 1);
}

function requireNode() {
  const [major, minor] = process.versions.node.split('.').map(Number);
  if (major > 20 || (major === 20 && minor >= 19)) return;
  console.error(`Uproar needs Node.js 20.19 or later; this is ${process.version}.`);
  process.exit(1);
}

/** npm writes this file last; if it is newer than the lock file, the installed packages are up to date. */
function isInstalled() {
  const [installed, wanted] = ['node_modules/.package-lock.json', 'package-lock.json'].map((file) => join(root, file));
  return existsSync(installed) && statSync(installed).mtimeMs >= statSync(wanted).mtimeMs;
}

/** Does something once for each state of the files it depends on. */
function step(name, inputs, result, what, act) {
  const stamps = existsSync(stampFile) ? JSON.parse(readFileSync(stampFile, 'utf8')) : {};
  const fingerprint = hashFiles(inputs);
  if (stamps[name] === fingerprint && existsSync(result)) return;
  console.log(what);
  rmSync(stampFile, { force: true });
  act();
  writeFileSync(stampFile, JSON.stringify({ ...stamps, [name]: fingerprint }) + '\n');
}

function hashFiles(paths) {
  const hash = createHash('sha256');
  const add = (path) => {
    const full = join(root, path);
    if (!existsSync(full)) return;
    for (const entry of [...readdirOrSelf(full)].sort()) {
      if (entry === '') hash.update(path).update(readFileSync(full));
      else add(`${path}/${entry}`);
    }
  };
  paths.forEach(add);
  return hash.digest('hex');
}

function readdirOrSelf(path) {
  try {
    return readdirSync(path);
  } catch {
    return [''];
  }
}
