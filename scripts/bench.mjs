// Runs the benchmarks: `npm run bench`, or `npm run bench -- match` for one.
import { makeReady, run } from './ready.mjs';

makeReady();
run(process.execPath, ['--import', 'tsx', 'bench/main.ts', ...process.argv.slice(2)]);
