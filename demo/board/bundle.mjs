// Makes the public board one folder of plain files: dist/board.
import { cpSync, mkdirSync } from 'node:fs';
import { build } from 'esbuild';

const at = (path) => new URL(path, import.meta.url).pathname;

mkdirSync(at('../dist/board'), { recursive: true });
for (const name of ['index.html', 'board.css', 'worker.js', 'manifest.webmanifest']) {
  cpSync(at(name), at(`../dist/board/${name}`));
}
await build({
  entryPoints: [at('../dist/board-modules/main.js')],
  // One file, so that the worker keeps all of it.
  outfile: at('../dist/board/board.js'),
  bundle: true,
  minify: true,
  format: 'esm',
  target: 'es2022',
  platform: 'browser',
  legalComments: 'none',
  define: { 'process.env.NODE_ENV': '"production"' },
});
