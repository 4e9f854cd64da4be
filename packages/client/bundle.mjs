// Makes the client one file for browsers, dist/bundle/uproar.js; parts that are needed rarely are separate files.
import { readFile } from 'node:fs/promises';
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
/** A CommonJS package of one function becomes a module, which needs no helpers around it. */
const asModule = {
  name: 'as module',
  setup: ({ onLoad }) =>
    onLoad({ filter: /canonicalize\.js$/ }, async ({ path }) => ({
      contents: (await readFile(path, 'utf8')).replace('module.exports =', 'export default'),
    })),
};
await build({
  ...options,
  entryPoints: [at('./dist/index.js')],
  outfile: at('./dist/bundle/uproar.js'),
  plugins: [besideItself, asModule],
});
await build({ ...options, entryPoints: [at('./dist/deferred.js')], outfile: at('./dist/bundle/uproar-deferred.js') });
