// Runs all tests on a bare checkout: `npm test`. Arguments go to Mocha, for example `npm test -- --grep resume`.
import { spawnSync } from 'node:child_process';
import { makeChromiumReady, makeToolsReady, makeReady, root } from './ready.mjs';

makeReady();
makeToolsReady();
const chromium = makeChromiumReady();
const { status } = spawnSync('npx', ['--no-install', 'mocha', ...process.argv.slice(2)], {
  cwd: root,
  stdio: ['ignore', 'inherit', 'inherit'],
  env: { ...process.env, CHROMIUM_PATH: chromium, NODE_OPTIONS: '' },
});
process.exit(status ?? 1);
