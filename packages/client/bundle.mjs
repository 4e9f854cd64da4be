// Makes the client one file for browsers, dist/bundle/uproar.js; what is needed now and then lies beside it.
import { build } from 'esbuild';

const at = (path) => new URL(path, import.meta.url).pathname;
const options = {
  bundle: true,
  minify: true,
  format: 'esm',
  target: 'es2022',
  platform: 'browser',
  legalComments: 'none',
  // Spatial relations are left out of browsers on purpose.
  logOverride: { 'ignored-bare-import': 'silent' },
};
await build({
  ...options,
  entryPoints: [at('./dist/index.js')],
  outfile: at('./dist/bundle/uproar.js'),
  external: ['./uproar-more.js', '../uproar-more.js'],
});
await build({ ...options, entryPoints: [at('./dist/uproar-more.js')], outfile: at('./dist/bundle/uproar-more.js') });
