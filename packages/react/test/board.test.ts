import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { BOARD_DIRECTORY, SETUP_DIRECTORY } from '@uproar/demo';
import { expect } from 'chai';
import type { Page } from 'playwright-core';
import { findBarriers } from '../../../test/barriers.js';
import { TestService, until } from '../../../test/service.js';
import { Windows } from '../../console/test/windows.js';

describe('the public board of the demo', function () {
  this.timeout(60_000);
  const windows = new Windows();
  let service: TestService;
  before(async () => {
    service = await TestService.start({ pages: { '/board/': BOARD_DIRECTORY } });
    await service.setPolicy(readFileSync(join(SETUP_DIRECTORY, 'policy.yaml'), 'utf8'));
  });
  after(() => service.stop());

  const put = (address: string, data: object) => service.request('PUT', `/v1/data/${address}`, data);
  const balloon = (name: string, altitude: number, more: object = {}) => ({
    ...{ name, altitude, status: 'aloft', fuel: 50, crewId: 'c-1' },
    position: { type: 'Point', coordinates: [0.05, 0.02] },
    ...more,
  });
  beforeEach(async () => {
    await put('balloons/b-1', balloon('Amber Heron', 400));
    await put('balloons/b-2', balloon('Coral Fox', 900));
    await put('balloons/b-3', balloon('Teal Otter', 0, { status: 'packed' }));
    await put('pads/p-1', { name: 'Larkmoor B', claimedBy: 'c-1' });
    await put('flights/f-1', {
      status: 'planned',
      start: '2026-06-10T05:07:00.000Z',
      padId: 'p-1',
      passengers: 1,
      crewId: 'c-1',
    });
    await put('gates/g-1', { visitors: 1200 });
    await put('stations/s-1', { name: 'Ridge', wind: { speed: 4, gust: 9.5, direction: 20 } });
    await put('notices/n-1', { title: 'Tower', text: 'Fog until nine.', severity: 'info', audience: 'all' });
    await put('notices/n-2', { title: 'Crews', text: 'Not for spectators.', severity: 'info', audience: 'crews' });
  });

  const open = async (options = {}) => {
    const page = await windows.open(`${service.url}/board/`, options);
    await page.getByText('Live', { exact: true }).waitFor();
    await page.getByText('Fog until nine.').waitFor();
    return page;
  };
  const highest = (page: Page) =>
    page.getByRole('list', { name: 'The highest balloons' }).locator('li').allTextContents();
  const marks = (page: Page) => page.locator('.balloon').count();

  it('shows what spectators may see, live', async () => {
    const page = await open();
    await until('the balloons', async () => (await marks(page)) === 2);
    expect(await highest(page)).to.deep.equal(['Coral Fox 900 m', 'Amber Heron 400 m']);
    await page.getByText('2 balloons aloft').waitFor();
    await page.getByText('1,200 visitors today').waitFor();
    await page.getByText('9.5 m/s gusts, Ridge').waitFor();
    expect(await page.locator('.starts li').allTextContents()).to.deep.equal(['05:07Larkmoor B1 passenger']);
    expect(await page.getByText('Not for spectators.').count()).to.equal(0);
    const moved = { altitude: 1500, position: { type: 'Point', coordinates: [-0.1, 0.1] } };
    await service.request('PATCH', '/v1/data/balloons/b-1', moved);
    await until('it is highest', async () => (await highest(page))[0] === 'Amber Heron 1500 m');
    const label = await page.getByRole('img').getAttribute('aria-label');
    expect(label).to.equal('Map of 2 balloons aloft. The highest is Amber Heron, at 1500 metres.');
    await service.request('PATCH', '/v1/data/balloons/b-2', { status: 'landed' });
    await until('it has landed', async () => (await marks(page)) === 1);
    await service.request('DELETE', '/v1/data/flights/f-1');
    await page.getByText('No more starts today.').waitFor();
    await page.close();
  });

  it('opens without a connection, with what was known last', async () => {
    const page = await open();
    await page.evaluate(() => navigator.serviceWorker.ready.then(() => undefined));
    // The copies of watches are written once a second.
    await page.waitForTimeout(2500);
    windows.expectFaults(/ERR_INTERNET_DISCONNECTED|Failed to load|failed/);
    await page.context().setOffline(true);
    await page.reload();
    await page.getByText('No connection. This is what was known last.').waitFor();
    await page.getByText('1,200 visitors today').waitFor();
    expect(await highest(page)).to.deep.equal(['Coral Fox 900 m', 'Amber Heron 400 m']);
    await page.context().setOffline(false);
    await page.getByText('Live', { exact: true }).waitFor();
    await page.close();
  });

  it('is accessible in light and dark colours, and fits a phone', async () => {
    const page = await open();
    expect(await findBarriers(page, true)).to.deep.equal([]);
    await page.setViewportSize({ width: 390, height: 844 });
    const width = await page.evaluate(() => document.documentElement.scrollWidth);
    expect(width).to.be.at.most(390);
    await page.close();
  });
});
