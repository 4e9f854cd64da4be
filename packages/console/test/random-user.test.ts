import { expect } from 'chai';
import { chromium } from 'playwright-core';
import { CHROMIUM } from '../../../test/chromium.js';
import { noteFaults } from './windows.js';
import { LivelyStore } from './random-user/work.js';

const TIME = { leastMs: 15_000, mostMs: 80_000, edits: 2 };
const SEED = 1009;

/** `npm run random-user` does the same for ten minutes. */
describe('two random users of the console, in two tabs over the lively demo', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(150_000);
  it('lose nothing that they typed, and meet no error', async () => {
    const lively = await LivelyStore.start(SEED);
    const browser = await chromium.launch(CHROMIUM);
    try {
      const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, reducedMotion: 'reduce' });
      const faults: string[] = [];
      const report = await lively.work(context, SEED, TIME, (page) => noteFaults(page, (fault) => faults.push(fault)));
      expect([...report.faults, ...faults], `seed ${SEED}`).to.deep.equal([]);
      expect(report.typed, 'they typed something').to.be.above(1);
    } finally {
      await browser.close();
      await lively.stop();
    }
  });
});
