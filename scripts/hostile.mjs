// Runs every attack against a service: `npm run hostile`, or `npm run hostile -- conditions` for some.
import { makeReady, run } from './ready.mjs';

makeReady();
run(process.execPath, ['--import', 'tsx', 'test/hostile/main.ts', ...process.argv.slice(2)]);
