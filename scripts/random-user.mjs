// Lets two random users work in the console over the lively demo: `npm run random-user -- 10` for so many minutes, then perhaps a seed.
import { makeChromiumReady, makeReady, makeToolsReady, run } from './ready.mjs';

makeReady();
makeToolsReady();
process.env.CHROMIUM_PATH = makeChromiumReady();
run(process.execPath, ['--import', 'tsx', 'packages/console/test/random-user/main.ts', ...process.argv.slice(2)]);
