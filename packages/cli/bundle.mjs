// Makes the command line and the service a few files, dist/bundled, so that both start in a third of the time: otherwise more than
// a thousand small modules are read. What one command alone needs is in a file of its own.
import { existsSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
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
const SEPARATE = ['backup-worker', 'check-process', 'checkpoint-worker', 'index-worker'];
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

rmSync(at('./dist/bundled'), { recursive: true, force: true });
const { metafile } = await build({
  entryPoints: [at('./dist/main.js'), ...SEPARATE.map((name) => at(`../service/dist/store/${name}.js`))],
  entryNames: '[name]',
  outdir: at('./dist/bundled'),
  absWorkingDir: at('.'),
  bundle: true,
  splitting: true,
  format: 'esm',
  platform: 'node',
  target: 'node20',
  external: [...OUTSIDE, ...OPTIONAL],
  plugins: [ONLY_ENGLISH, LATE_SEGMENTER],
  // Some packages use what modules of the older kind have.
  banner: {
    js: [
      "import { createRequire as makeRequire } from 'node:module';",
      'const require = makeRequire(import.meta.url);',
      'const __filename = import.meta.filename;',
      'const __dirname = import.meta.dirname;',
    ].join('\n'),
  },
  legalComments: 'none',
  // Less text is compiled in less time; names stay, for stack traces.
  minifyWhitespace: true,
  minifySyntax: true,
  metafile: true,
});
writeFileSync(at('./dist/bundled/LICENSES.txt'), collectLicences(Object.keys(metafile.inputs)));

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
