// Makes the client one file for browsers: dist/uproar.js.
import { build } from 'esbuild';

await build({
  entryPoints: [new URL('./dist/index.js', import.meta.url).pathname],
  outfile: new URL('./dist/uproar.js', import.meta.url).pathname,
  bundle: true,
  minify: true,
  format: 'esm',
  target: 'es2022',
  platform: 'browser',
  legalComments: 'none',
  // Spatial relations are left out of browsers on purpose.
  logOverride: { 'ignored-bare-import': 'silent' },
});
