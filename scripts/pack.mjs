// Makes the packages that users install: `npm run pack`. They come to lie in `packed/`, or in the folder given as argument:
// `uproar` (service, command line and console, with our own packages inside), and the packages of the client.
import { spawnSync } from 'node:child_process';
import { cpSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { makeReady, root } from './ready.mjs';

/** The packages of the client, and what stands on their first page. */
const CLIENT_PACKAGES = { core: null, protocol: null, client: 'docs/client.md', vue: 'docs/client.md' };

/** Our own packages that `uproar` needs; they travel inside it. */
const INSIDE = ['core', 'protocol', 'client', 'service', 'console', 'demo'];

/** What others bring along in a version that does not run on the oldest Node.js we take; an earlier one does. */
const PINNED = { 'light-my-request': '~6.6.0' };

makeReady();
const destination = resolve(process.argv[2] ?? join(root, 'packed'));
const workshop = mkdtempSync(join(tmpdir(), 'uproar-pack-'));
try {
  rmSync(destination, { recursive: true, force: true });
  mkdirSync(destination, { recursive: true });
  for (const [name, readme] of Object.entries(CLIENT_PACKAGES)) {
    const folder = lay(`@uproar/${name}`);
    if (readme) cpSync(join(root, readme), join(folder, 'README.md'));
    pack(folder);
  }
  pack(layUproar());
  for (const file of readdirSync(destination).sort()) console.log(file);
} finally {
  rmSync(workshop, { recursive: true, force: true });
}

/** Lays out what a package has to ship in a folder. */
function lay(name) {
  const folder = join(workshop, name.replace('/', '-'));
  mkdirSync(folder, { recursive: true });
  const [{ filename }] = JSON.parse(npm(root, 'pack', '-w', name, '--json', '--pack-destination', folder));
  const { status } = spawnSync('tar', ['-xzf', filename, '--strip-components=1'], { cwd: folder, stdio: 'inherit' });
  if (status !== 0) process.exit(1);
  rmSync(join(folder, filename));
  cpSync(join(root, 'LICENSE'), join(folder, 'LICENSE'));
  return folder;
}

/** The package `uproar`: what it needs of ours lies in it, what it needs of others' is installed with it. */
function layUproar() {
  const folder = lay('uproar');
  cpSync(join(root, 'README.md'), join(folder, 'README.md'));
  const manifest = readManifest(folder);
  for (const name of INSIDE) {
    const inner = lay(`@uproar/${name}`);
    const { dependencies, peerDependencies, peerDependenciesMeta, ...rest } = readManifest(inner);
    // What packages inside depend on would count as being inside, too, and not be installed.
    writeManifest(inner, rest);
    manifest.dependencies = { ...dependencies, ...manifest.dependencies };
    if (peerDependenciesMeta) Object.assign(manifest, { peerDependencies, peerDependenciesMeta });
    cpSync(inner, join(folder, 'node_modules/@uproar', name), { recursive: true });
  }
  manifest.dependencies = { ...PINNED, ...manifest.dependencies };
  manifest.bundleDependencies = INSIDE.map((name) => `@uproar/${name}`);
  writeManifest(folder, manifest);
  return folder;
}

function readManifest(folder) {
  return JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8'));
}

function writeManifest(folder, manifest) {
  writeFileSync(join(folder, 'package.json'), `${JSON.stringify(manifest, null, 2)}\n`);
}

function pack(folder) {
  npm(folder, 'pack', '--pack-destination', destination);
}

function npm(cwd, ...args) {
  const { status, stdout, stderr } = spawnSync('npm', ['--loglevel=error', ...args], { cwd, encoding: 'utf8' });
  if (status === 0) return stdout;
  console.error(stderr);
  process.exit(1);
}
