// Makes the client one file for browsers, dist/bundle/uproar.js; parts that are needed rarely are separate files.
import { build } from 'esbuild';

const at = (path) => new URL(path, import.meta.url).pathname;
const options = {
  bundle: true,
  minify: true,
  format: 'esm',
  target: 'es2022',
  platform: 'browser',
  legalComments: 'none',
};
/** Deferred parts are written beside the bundle, for every import in the sources. */
const besideItself = {
  name: 'beside itself',
  setup: ({ onResolve }) =>
    onResolve({ filter: /deferred\.js$/ }, ({ kind }) =>
      kind === 'dynamic-import' ? { path: './uproar-deferred.js', external: true } : undefined,
    ),
};
await build({
  ...options,
  entryPoints: [at('./dist/index.js')],
  outfile: at('./dist/bundle/uproar.js'),
  plugins: [besideItself],
});
await build({ ...options, entryPoints: [at('./dist/deferred.js')], outfile: at('./dist/bundle/uproar-deferred.js') });
