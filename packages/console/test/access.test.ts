import { expect } from 'chai';
import type { Page } from 'playwright-core';
import type { Store } from '@uproar/client';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import { KEY, TestService, until } from '../../../test/service.js';
import { keepMoving } from './movement.js';
import { Windows } from './windows.js';

describe('access in the console', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  let service: TestService;
  let store: Store;
  let page: Page;
  let endMovement: () => Promise<void>;

  before(async () => {
    service = await TestService.start({
      consoleDirectory: CONSOLE_DIRECTORY,
      accounts: 'open',
      openForMs: 3_600_000,
    });
    store = service.client();
    await store.collection('flights').put('f-1', { crew: 'c-1', altitude: 100 });
    await store.collection('flights').put('f-2', { crew: 'c-2', altitude: 200 });
    endMovement = keepMoving(store);
    page = await windows.signIn(service.url, 'access', KEY);
  });
  after(async () => {
    await endMovement();
    await service.stop();
  });

  const write = async (text: string) => {
    await page.locator('.cm-content').click();
    // Typed over a selection, text would take on its look, which the page's security policy forbids.
    await page.keyboard.press('Control+A');
    await page.keyboard.press('Delete');
    await page.keyboard.insertText(text);
  };
  const openTab = (name: string) => page.getByRole('tab', { name }).click();
  const rows = () => page.getByRole('region', { name: 'Visible documents' }).locator('tbody tr').allTextContents();

  it('checks a policy as it is written, previews and tries it, and puts it in force', async () => {
    windows.expectFaults(/^422 PUT \/v1\/policy$/);
    await page.getByText('No policy is set').waitFor();
    await write('collections:\n  flights:\n    read: "crew = "\n');
    await page.getByText('invalid').waitFor();
    await page.getByText('/collections/flights/read').first().waitFor();
    expect(await page.getByRole('button', { name: 'Put in force' }).isDisabled()).to.equal(true);
    await write(
      "collections:\n  flights:\n    read: \"crew = claim('crew')\"\n    update: \"crew = claim('crew') AND crew = was('crew')\"\n  flihgts:\n    read: true\n",
    );
    await page.getByText('Did you mean "flights"').waitFor();
    await page.getByLabel('Claims as JSON').fill('{"sub": "ada", "crew": "c-1"}');
    await until('the preview shows theirs', async () => (await rows()).join().includes('f-1'));
    expect(await rows()).to.have.length(1);
    await service.request('PATCH', '/v1/data/flights/f-2', { crew: 'c-1' });
    await until('it is live', async () => (await rows()).length === 2);

    await page.getByLabel('Action').selectOption('update');
    await page.getByLabel('Id of the document').fill('f-1');
    await page.getByLabel('Data as JSON').fill('{"crew": "c-9"}');
    await page.getByRole('button', { name: 'Try', exact: true }).click();
    await page.getByText('Refused').waitFor();
    await page.getByText('/collections/flights/update').waitFor();
    await page.getByText('was(\'crew\') = "c-1"').waitFor();

    await page.getByLabel('Note').fill('crews see their own');
    await page.getByRole('button', { name: 'Put in force' }).click();
    await page.getByText('Version 1 is in force').waitFor();
    expect((await service.request('GET', '/v1/policy')).json).to.include({ version: 1, note: 'crews see their own' });
  });

  it('makes keys, shows each once, and revokes them', async () => {
    await openTab('Keys');
    await page.getByText('first', { exact: true }).waitFor({ state: 'detached' });
    await page.getByLabel('Name of the new key').fill('gate-reader');
    await page.getByLabel('Collections, with commas between them').fill('gates');
    await page.getByRole('button', { name: 'Create key' }).click();
    const key = (await page.locator('.secret').textContent())!;
    expect((await service.as(key)('GET', '/v1/data/gates')).status).to.equal(200);
    await page.getByRole('button', { name: 'Done' }).click();
    await page.getByRole('cell', { name: 'gate-reader' }).waitFor();
    expect(await page.content()).not.to.include(key);
    await page.getByRole('button', { name: 'Revoke' }).click();
    await page.locator('.ant-popconfirm').getByRole('button', { name: 'OK' }).click();
    await page.getByText('“gate-reader” is revoked').waitFor();
    expect((await service.as(key)('GET', '/v1/data/gates')).status).to.equal(401);
  });

  it('creates accounts and changes their claims', async () => {
    await openTab('Accounts');
    await page.getByLabel('Name of the new account').fill('ada');
    await page.getByLabel('Its password').fill('amber-balloon');
    await page.getByLabel('Its claims, as JSON').fill('{"crew": "c-1"');
    expect(await page.getByRole('button', { name: 'Create account' }).isDisabled()).to.equal(true);
    await page.getByLabel('Its claims, as JSON').fill('{"crew": "c-1"}');
    await page.getByRole('button', { name: 'Create account' }).click();
    await page.getByRole('cell', { name: '{"crew":"c-1"}' }).waitFor();
    await page.getByRole('button', { name: 'Claims' }).click();
    await page.getByRole('textbox', { name: 'Claims as JSON' }).fill('{"crew": "c-2"}');
    await page.getByRole('button', { name: 'Save' }).click();
    await page.getByRole('cell', { name: '{"crew":"c-2"}' }).waitFor();
    const { accounts } = (await service.request('GET', '/v1/accounts')).json;
    expect(accounts[0].claims).to.deep.equal({ crew: 'c-2' });
  });

  it('allows anonymous access during the open period', async () => {
    const other = await windows.open(`${service.url}/console/`);
    await other.getByRole('button', { name: 'Continue without a key' }).click();
    await other.getByText('The store is open').waitFor();
    await other.getByText('f-1', { exact: true }).waitFor();
    await other.context().close();
  });

  it('shows the audit log, and the remaining open period', async () => {
    await openTab('Audit log');
    for (const event of ['account-changed', 'key-revoked', 'policy-changed'])
      await page.getByRole('cell', { name: event, exact: true }).first().waitFor();
    await page.getByText('The store is open').waitFor();
    const left = () => page.locator('.banner .time').textContent();
    const before = await left();
    expect(before).to.match(/^(1:00|59):\d\d/);
    await until('it counts down', async () => (await left()) !== before);
  });
});
