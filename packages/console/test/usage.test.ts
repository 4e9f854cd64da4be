import { expect } from 'chai';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import { KEY, TestService, until } from '../../../test/service.js';
import { keepMoving } from './movement.js';
import { Windows } from './windows.js';

describe('usage in the console', function () {
  // A browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  let service: TestService;
  let endMovement: () => Promise<void>;
  before(async () => {
    service = await TestService.start({ consoleDirectory: CONSOLE_DIRECTORY, usage: { intervalMs: 300 } });
    endMovement = keepMoving(service.client());
    const { key } = (await service.request('POST', '/v1/keys', { name: 'gate', scope: 'write' })).json as {
      key: string;
    };
    for (let n = 0; n < 1100; n += 100) {
      const writes = Array.from({ length: 100 }, (_, at) => ({ put: `passes/p-${n + at}`, data: { n: n + at } }));
      await service.as(key)('POST', '/v1/commits', { writes });
    }
    await service.as(key)('GET', '/v1/data/passes?where=n%3D7');
    await until('it is on record', async () => {
      const { json } = await service.request('GET', '/v1/usage?identity=key:gate');
      return ((json as { rows: { writes: number; reads: number }[] }).rows[0]?.writes ?? 0) >= 1100;
    });
  });
  after(async () => {
    await endMovement();
    await service.stop();
  });

  it('is shown by identity, by collection and by day, and leads from one to the other', async () => {
    const page = await windows.signIn(service.url, 'usage', KEY);
    const table = page.getByRole('region', { name: 'Usage' });
    const row = table.locator('tbody tr').filter({ hasText: 'key:gate' });
    await row.getByRole('cell', { name: '1,100', exact: true }).first().waitFor();
    expect(await row.locator('.behind').textContent(), 'looked at for one read').to.match(/^\s*1,1\d\d\s*$/);

    await row.getByRole('button', { name: 'key:gate' }).click();
    await page.waitForURL(/identity=key(?::|%3A)gate/);
    const passes = table.locator('tbody tr').filter({ hasText: 'passes' });
    await passes.getByRole('cell', { name: '1,100', exact: true }).first().waitFor();
    await passes.getByRole('button', { name: 'passes' }).click();
    await page.waitForURL(/collection=passes/);
    expect(await table.locator('tbody tr').count()).to.equal(1);

    await page.getByRole('button', { name: 'Show all' }).click();
    await page.getByText('Days', { exact: true }).click();
    await table.getByText(new Date().toISOString().slice(0, 10)).waitFor();
    await page.getByTitle('Collections', { exact: true }).click();
    await passes.getByRole('cell', { name: '1,100', exact: true }).first().waitFor();
    await table.getByRole('columnheader', { name: 'Stored' }).waitFor();
    await page.getByText('Today', { exact: true }).click();
    await passes.waitFor();
  });
});
