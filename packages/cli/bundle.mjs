// Bundles the command line and the service into one script, dist/bundled/program.cjs, and compiles it in advance. Otherwise a start
// would read and compile more than a thousand modules.
import { spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { once } from 'node:events';
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { build } from 'esbuild';

const at = (path) => new URL(path, import.meta.url).pathname;
/** Packages that find their own files, or that few stores use. */
const OUTSIDE = [
  '@uproar/console',
  '@uproar/demo',
  '@uproar/client/file',
  'better-sqlite3',
  'etcd3',
  '@opentelemetry/api',
];
/** The threads and processes of the service. Each is a file beside the one that starts it. */
const SEPARATE = Object.fromEntries(
  ['backup-worker', 'check-process', 'checkpoint-worker', 'index-worker'].map((name) => [
    name,
    at(`../service/dist/store/${name}.js`),
  ]),
);
/** Parts of the WebSocket package that are only used where they are installed. */
const OPTIONAL = ['bufferutil', 'utf-8-validate'];

/** Messages of Zod in other languages, which nobody asks for, are half of that package. */
const ONLY_ENGLISH = {
  name: 'only English',
  setup({ onResolve, onLoad }) {
    const namespace = 'only-english';
    onResolve({ filter: /\/locales\/index\.js$/ }, ({ path, resolveDir }) => ({
      path,
      namespace,
      pluginData: { resolveDir },
    }));
    onLoad({ filter: /./, namespace }, ({ pluginData }) => ({
      contents: "export { default as en } from '../locales/en.js';",
      ...pluginData,
    }));
  },
};

/** Making a segmenter takes as long as starting half of Node.js, so it is made for the first text that is not ASCII. */
const LATE_SEGMENTER = {
  name: 'late segmenter',
  setup({ onLoad }) {
    onLoad({ filter: /node_modules\/string-width\/index\.js$/ }, ({ path }) => {
      const text = readFileSync(path, 'utf8');
      // Older versions use none.
      if (!text.includes('Intl.Segmenter')) return { contents: text };
      const eager = 'const segmenter = new Intl.Segmenter();';
      if (!text.includes(eager)) throw new Error(`${path} makes its segmenter in another way.`);
      const late = `
        let made;
        const segmenter = {
          segment: (text) => /^[ -~]*$/.test(text)
            ? [...text].map((segment) => ({ segment }))
            : (made ??= new Intl.Segmenter()).segment(text),
        };`;
      return { contents: text.replace(eager, late) };
    });
  },
};

/** What all bundles have in common. */
const COMMON = {
  absWorkingDir: at('.'),
  bundle: true,
  platform: 'node',
  target: 'node20',
  external: [...OUTSIDE, ...OPTIONAL],
  plugins: [ONLY_ENGLISH, LATE_SEGMENTER],
  legalComments: 'none',
  // Less text is compiled in less time; names stay, for stack traces.
  minifyWhitespace: true,
  minifySyntax: true,
  metafile: true,
};

rmSync(at('./dist/bundled'), { recursive: true, force: true });
const program = await build({
  ...COMMON,
  entryPoints: [at('./dist/main.js')],
  outfile: at('./dist/bundled/program.cjs'),
  format: 'cjs',
  // A script that is compiled in advance cannot use `import()`. It uses `require` instead.
  supported: { 'dynamic-import': false },
  define: { 'import.meta.url': '__url' },
  banner: { js: '(function (require, module, exports, __filename, __dirname, __url) {' },
  footer: { js: '})' },
});
const others = await build({
  ...COMMON,
  entryPoints: { main: at('./dist/launch.js'), ...SEPARATE },
  outdir: at('./dist/bundled'),
  splitting: true,
  format: 'esm',
  // Some packages use what modules of the older kind have.
  banner: {
    js: [
      "import { createRequire as makeRequire } from 'node:module';",
      'const require = makeRequire(import.meta.url);',
      'const __filename = import.meta.filename;',
      'const __dirname = import.meta.dirname;',
    ].join('\n'),
  },
});
const inputs = new Set([program, others].flatMap(({ metafile }) => Object.keys(metafile.inputs)));
writeFileSync(at('./dist/bundled/LICENSES.txt'), collectLicences([...inputs]));
await precompile('commands', ['query', '--help']);
await precompileService();

/** Compiles what the service uses: runs it for a few requests. */
async function precompileService() {
  const directory = mkdtempSync(join(tmpdir(), 'uproar-precompile-'));
  const key = randomBytes(24).toString('hex');
  try {
    await precompile('service', ['serve', '--data', directory, '--port', '0'], key, async (url) => {
      const headers = { authorization: `Bearer ${key}`, 'content-type': 'application/json' };
      const address = `${url}/v1/data/balloons`;
      for (const [path, init] of [
        [`${address}/b-1`, { method: 'PUT', body: '{"altitude":1}' }],
        [`${address}/b-1`],
        [`${address}?where=altitude>0`],
      ]) {
        const answer = await fetch(path, { headers, ...init });
        if (!answer.ok) throw new Error(`${path} was answered with ${answer.status}: ${await answer.text()}`);
        await answer.text();
      }
    });
  } finally {
    rmSync(directory, { recursive: true, force: true });
  }
}

/**
 * Writes the code that V8 compiles while the program runs.
 *
 * @param use what the code is for: `commands` or `service`
 * @param args the arguments of the program
 * @param key a key of the service that the program starts, if it starts one
 * @param send sends requests to the address of the service, once it serves; then it is ended
 */
async function precompile(use, args, key, send) {
  const child = spawn(process.execPath, [at('./precompile.mjs'), use, ...args], {
    stdio: ['ignore', 'pipe', 'inherit'],
    // Settings in the environment of the build do not apply.
    env: { PATH: process.env.PATH, NO_COLOR: '1', ...(key ? { UPROAR_ADMIN_KEY: key } : {}) },
    timeout: 60_000,
  });
  let said = '';
  let sent;
  child.stdout.on('data', (text) => {
    said += String(text);
    const url = /serves (http:\S+)/.exec(said)?.[1];
    if (url && send) sent ??= send(url).finally(() => child.kill('SIGTERM'));
  });
  const [code] = await once(child, 'exit');
  await sent;
  if (code !== 0) throw new Error(`Compiling the code for ${use} in advance ended with ${code}.`);
}

/** The licences of the packages whose files are in the bundle. */
function collectLicences(files) {
  const folders = new Set(
    files.flatMap((file) => /^(.*node_modules\/(?:@[^/]+\/)?[^/]+)\//.exec(file)?.[1] ?? []).map((path) => at(path)),
  );
  return [...folders]
    .sort()
    .map((folder) => {
      const { name, version, license } = JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8'));
      const file = readdirSync(folder).find((entry) => /^licen[cs]e/i.test(entry));
      const text =
        file === undefined || !existsSync(join(folder, file)) ? '' : readFileSync(join(folder, file), 'utf8');
      return `${name} ${version} (${license})\n\n${text.trim()}\n`;
    })
    .join(`\n${'-'.repeat(80)}\n\n`);
}
