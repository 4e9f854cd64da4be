// Makes the command line a few files, dist/bundled, so that commands start in a third of the time: otherwise more than a thousand
// small modules are read. The service stays outside, since few commands need it.
import { existsSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { build } from 'esbuild';

const at = (path) => new URL(path, import.meta.url).pathname;
const OUTSIDE = ['@uproar/service', '@uproar/console', '@uproar/demo', '@uproar/client/file'];
/** Parts of the WebSocket package that are only used where they are installed. */
const OPTIONAL = ['bufferutil', 'utf-8-validate'];

rmSync(at('./dist/bundled'), { recursive: true, force: true });
const { metafile } = await build({
  entryPoints: [at('./dist/main.js')],
  outdir: at('./dist/bundled'),
  absWorkingDir: at('.'),
  bundle: true,
  splitting: true,
  format: 'esm',
  platform: 'node',
  target: 'node20',
  external: [...OUTSIDE, ...OPTIONAL],
  // Some packages use require.
  banner: { js: "import { createRequire } from 'node:module';\nconst require = createRequire(import.meta.url);" },
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
