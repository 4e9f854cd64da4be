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
};
/** What is loaded when it is needed lies beside the one file, wherever in the sources it is asked for. */
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
