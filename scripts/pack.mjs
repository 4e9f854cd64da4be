// Makes the packages that users install: `npm run pack`. They come to lie in `packed/`, or in the folder given as argument:
// `uproar` (service, command line and console), and the packages for apps, each with our own packages that it needs inside.
import { spawnSync } from 'node:child_process';
import { cpSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { makeReady, root } from './ready.mjs';

/** The packages for apps, and our own packages that travel inside each. */
const APP_PACKAGES = { client: ['core', 'protocol'], vue: [], react: [] };

/** Our own packages that travel inside `uproar`. */
const INSIDE = ['core', 'protocol', 'client', 'service', 'console', 'demo'];

/** What others bring along in a version that does not run on the oldest Node.js we take; an earlier one does. */
const PINNED = { 'light-my-request': '~6.6.0' };

makeReady();
const destination = resolve(process.argv[2] ?? join(root, 'packed'));
const workshop = mkdtempSync(join(tmpdir(), 'uproar-pack-'));
try {
  rmSync(destination, { recursive: true, force: true });
  mkdirSync(destination, { recursive: true });
  for (const [name, inside] of Object.entries(APP_PACKAGES)) pack(layWith(`@uproar/${name}`, inside, 'docs/client.md'));
  pack(layWith('uproar', INSIDE, 'README.md'));
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

/** A package with others inside: what it needs of ours lies in it, what it needs of others' is installed with it. */
function layWith(name, inside, readme) {
  const folder = lay(name);
  cpSync(join(root, readme), join(folder, 'README.md'));
  if (inside.length === 0) return folder;
  const manifest = readManifest(folder);
  for (const own of inside) {
    const inner = lay(`@uproar/${own}`);
    const { dependencies, peerDependencies, peerDependenciesMeta, ...rest } = readManifest(inner);
    // What packages inside depend on would count as being inside, too, and not be installed.
    writeManifest(inner, rest);
    manifest.dependencies = { ...dependencies, ...manifest.dependencies };
    if (peerDependenciesMeta) Object.assign(manifest, { peerDependencies, peerDependenciesMeta });
    cpSync(inner, join(folder, 'node_modules/@uproar', own), { recursive: true });
  }
  if (inside.includes('service')) manifest.dependencies = { ...PINNED, ...manifest.dependencies };
  manifest.bundleDependencies = inside.map((own) => `@uproar/${own}`);
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
