// Runs the benchmarks: `npm run bench`, or `npm run bench -- match` for one; `npm run growth` and `npm run soak` for the others.
import { makeReady, run } from './ready.mjs';

const [first, ...rest] = process.argv.slice(2);
const program = ['growth', 'soak', 'scale', 'polling', 'sizing'].includes(first) ? first : 'main';

makeReady();
run(process.execPath, [
  '--import',
  'tsx',
  `bench/${program}.ts`,
  ...(program === 'main' ? process.argv.slice(2) : rest),
]);
