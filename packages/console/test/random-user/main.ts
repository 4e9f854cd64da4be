/** Two random users in two tabs of the console, over the lively demo, from the command line: for how many minutes, and a seed. */
import { chromium } from 'playwright-core';
import { CHROMIUM } from '../../../../test/chromium.js';
import { noteFaults } from '../windows.js';
import { LivelyStore } from './work.js';

const [minutes = '10', seed = String(Date.now() % 1_000_000)] = process.argv.slice(2);
const print = (line: string) => process.stdout.write(`${line}\n`);
print(`seed ${seed}`);
const lively = await LivelyStore.start(Number(seed));
const browser = await chromium.launch(CHROMIUM);
const faults: string[] = [];
try {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, reducedMotion: 'reduce' });
  const report = await lively.work(context, Number(seed), { leastMs: Number(minutes) * 60_000 }, (page) =>
    noteFaults(page, (fault) => faults.push(fault)),
  );
  report.faults.push(...new Set(faults));
  print(JSON.stringify(report, undefined, 2));
  process.exitCode = report.faults.length > 0 ? 1 : 0;
} finally {
  await browser.close();
  await lively.stop();
}
