// Starts the demo on a bare checkout: `npm run demo`. Options go to `uproar demo`.
import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { makeEtcdReady, makeReady, root } from './ready.mjs';

makeReady();
if (process.argv.some((argument) => argument.startsWith('--nodes'))) makeEtcdReady();
const main = join(root, 'packages/cli/dist/bundled/main.js');
const demo = spawn(process.execPath, [main, 'demo', ...process.argv.slice(2)], { stdio: 'inherit' });
// A terminal interrupts both; the demo decides when it has cleaned up.
process.on('SIGINT', () => undefined);
process.on('SIGTERM', () => demo.kill('SIGTERM'));
demo.on('exit', (code) => process.exit(code ?? 1));
