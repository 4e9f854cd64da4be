// Kills the service again and again while it writes: `npm run crash -- 300` for so many rounds, then perhaps a seed.
import { makeReady, run } from './ready.mjs';

makeReady();
run(process.execPath, ['--import', 'tsx', 'test/crash-main.ts', ...process.argv.slice(2)]);
