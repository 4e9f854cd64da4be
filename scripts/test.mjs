// Runs the tests on a bare checkout: `npm test`. Arguments go to Mocha, for example `npm test -- --grep resume`.
// `--long` runs the long tests instead; see `npm run test:long`.
import { spawnSync } from 'node:child_process';
import { makeChromiumReady, makeToolsReady, makeReady, root } from './ready.mjs';

const long = process.argv[2] === '--long';
const args = process.argv.slice(long ? 3 : 2);
makeReady();
makeToolsReady({ long });
const chromium = makeChromiumReady();
const { status } = spawnSync(
  'npx',
  ['--no-install', 'mocha', ...(long ? ['--config', '.mocharc.long.json'] : []), ...args],
  {
    cwd: root,
    stdio: ['ignore', 'inherit', 'inherit'],
    env: { ...process.env, CHROMIUM_PATH: chromium, NODE_OPTIONS: '' },
  },
);
process.exit(status ?? 1);
