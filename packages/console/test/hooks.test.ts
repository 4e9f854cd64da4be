import { expect } from 'chai';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import { HookReceiver } from '../../../test/hook-receiver.js';
import { KEY, TestService, until } from '../../../test/service.js';
import { keepMoving } from './movement.js';
import { Windows } from './windows.js';

describe('hooks in the console', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  let service: TestService;
  let receiver: HookReceiver;
  let endMovement: () => Promise<void>;
  before(async () => {
    receiver = await HookReceiver.start();
    service = await TestService.start({ consoleDirectory: CONSOLE_DIRECTORY, hooks: { networks: ['127.0.0.1'] } });
    await service.request('PUT', '/v1/data/radio/a', { n: 0 });
    endMovement = keepMoving(service.client());
  });
  after(async () => {
    await endMovement();
    await service.stop();
    receiver.stop();
  });

  it('are made, tested, looked at, sent again, paused, changed and removed', async () => {
    windows.expectFaults(/^422 POST \/v1\/hooks$/);
    const page = await windows.signIn(service.url, 'hooks', KEY);
    await page.getByText('No hooks').waitFor();
    await page.getByRole('button', { name: 'Create the first hook' }).click();
    const form = page.locator('.ant-drawer').filter({ hasText: 'New hook' });
    await form.getByLabel('Name', { exact: true }).fill('desk');
    await form.getByLabel('Collection').selectOption('radio');
    await form.getByLabel('Address').fill('http://10.0.0.1/changes');
    await form.getByLabel('Condition').fill('n > 4');
    await form.getByRole('button', { name: 'Create hook' }).click();
    await form.getByText('hook-networks').waitFor();
    await form.getByLabel('Address').fill(receiver.url);
    await form.getByRole('button', { name: 'Create hook' }).click();
    await page.getByText(/^whsec_/).waitFor();
    await page.getByRole('button', { name: 'Done' }).click();

    const table = page.getByRole('region', { name: 'Hooks' });
    await table.getByText('n > 4').waitFor();
    await service.request('PUT', '/v1/data/radio/a', { n: 5 });
    await until('it is delivered', () => receiver.received.length >= 1);
    const menu = async (item: string) => {
      await table.getByRole('button', { name: 'More for desk' }).click();
      await page.getByRole('menuitem', { name: item }).click();
    };
    await menu('Send a test event');
    await page.getByText('The receiver took the test event').waitFor();
    receiver.answer = (_received, response) => response.writeHead(500).end('the desk is closed');
    await menu('Send a test event');
    await page.getByText('The receiver did not take the test event').waitFor();

    await table.getByRole('button', { name: 'Deliveries' }).click();
    const drawer = page.locator('.ant-drawer').filter({ hasText: 'Deliveries of “desk”' });
    await drawer.locator('tbody').filter({ hasText: 'radio/a' }).getByRole('button').first().click();
    await drawer.getByText('webhook-signature: v1,').waitFor();
    receiver.answer = (_received, response) => response.writeHead(200).end();
    await drawer.getByRole('button', { name: 'Send again' }).click();
    await page.getByText('Sent again, and taken').waitFor();
    const ids = receiver.received.map(({ event }) => event.id);
    expect(ids.length - new Set(ids).size, 'an event that came twice').to.be.at.least(1);
    await drawer.getByLabel('only failed').check();
    const rows = drawer.locator('tbody');
    await until('only what failed is shown', async () => (await rows.filter({ hasText: /200|204/ }).count()) === 0);
    expect(await rows.filter({ hasText: '500' }).count()).to.be.at.least(1);
    await drawer.locator('.ant-drawer-close').click();

    await menu('Pause');
    await table.getByText('An administrator paused it.').waitFor();
    await menu('Resume');
    await table.getByText('delivering').waitFor();
    await menu('Change…');
    const change = page.locator('.ant-drawer').filter({ hasText: 'Change the hook “desk”' });
    await change.getByLabel('Condition').fill('');
    await change.getByRole('button', { name: 'Save' }).click();
    await until(
      'it has no condition',
      async () => (await service.request('GET', '/v1/hooks/desk')).json.where === undefined,
    );
    await menu('New secret');
    await page.getByText('For a day, deliveries are signed with the old secret, too.').waitFor();
    await page.getByRole('button', { name: 'Done' }).click();
    await menu('Remove…');
    await page.getByRole('button', { name: 'Remove', exact: true }).click();
    await page.getByText('No hooks').waitFor();
    await page.context().close();
  });
});
