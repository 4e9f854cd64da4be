import { expect } from 'chai';
import { estimate, type Load } from '../../../docs/calculator/model.js';
import { fileURLToPath } from 'node:url';
import { MovingService } from './moving-service.js';
import { Windows } from './windows.js';

const DOCS = fileURLToPath(new URL('../../cli/dist/docs', import.meta.url));

const LOAD: Load = {
  devices: 1000,
  watchersPerChange: 100,
  views: 1,
  commits: 10,
  queries: 10,
  documents: 10_000,
  documentBytes: 500,
  journalDays: 1,
};

describe('the calculator of the page about sizing', () => {
  const windows = new Windows();
  const moving = new MovingService({ docsDirectory: DOCS });

  it('says more for more of anything', () => {
    const before = estimate(LOAD);
    expect(before.nodes).to.equal(1);
    for (const name of Object.keys(LOAD) as (keyof Load)[]) {
      const after = estimate({ ...LOAD, [name]: LOAD[name] * 100 });
      const grown = (['cpu', 'memoryBytes', 'diskBytes', 'sentBytesPerS'] as const).filter((one) => {
        expect(after[one], `${one} with more ${name}`).to.be.at.least(before[one]);
        return after[one] > before[one];
      });
      expect(grown, name).to.not.have.length(0);
    }
  });

  it('says how many nodes are needed, why, and when no number suffices', () => {
    expect(estimate({ ...LOAD, devices: 50_000 })).to.include({ nodes: 3, because: 'connections' });
    const messages = estimate({ ...LOAD, devices: 10_000, watchersPerChange: 10_000 });
    expect(messages.because).to.equal('processor');
    expect(messages.nodes).to.be.within(2, 6);
    expect(estimate({ ...LOAD, commits: 20_000 })).to.include({ nodes: undefined, because: 'commits' });
    const none = estimate({
      ...LOAD,
      devices: 0,
      watchersPerChange: 0,
      views: 0,
      commits: 0,
      queries: 0,
      documents: 0,
    });
    expect(none).to.include({ nodes: 1, diskBytes: 0, messages: 0 });
    for (const amount of Object.values(none)) expect(amount).to.not.be.NaN;
  });

  it('computes while one types, keeps the values in the address, and says what is not a number', async () => {
    const page = await windows.open(`${moving.service.url}/docs/sizing.html?devices=5000`);
    const result = page.locator('output.calculator');
    const memory = result.getByRole('row', { name: /^Memory/ });
    await memory.getByText(/\d MB/).waitFor();
    expect(await page.getByLabel('Connected devices').inputValue()).to.equal('5000');
    const before = await memory.innerText();
    await page.getByLabel('Connected devices').fill('100000');
    expect(await memory.innerText()).to.not.equal(before);
    await result.getByText('for 20,000 connections each').waitFor();
    expect(page.url()).to.include('devices=100000');
    await page.getByLabel('Writes per second').fill('-1');
    await result.getByText('Each field takes a number of at least 0.').waitFor();
    await page.reload();
    await result.getByText('Each field takes').waitFor();
    await page.context().close();
  });
});
