import { execFileSync } from 'node:child_process';
import { cpSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { expect } from 'chai';
import type { Page } from 'playwright-core';
import { Windows } from '../../console/test/windows.js';
import { temporaryDirectory, TestService, until } from '../../../test/service.js';

const ROOT = fileURLToPath(new URL('../../../', import.meta.url));
const FRAMEWORKS = ['svelte', 'solid', 'angular'];

describe('the recipes for frameworks', function () {
  this.timeout(300_000);
  const windows = new Windows();
  const directory = temporaryDirectory();
  let service: TestService;
  let key: string;

  before(async () => {
    execFileSync(process.execPath, [join(ROOT, 'scripts/pack.mjs'), directory.path], { stdio: 'ignore' });
    const packed = readdirSync(directory.path).find((name) => name.startsWith('uproar-client-'))!;
    for (const name of FRAMEWORKS) {
      const app = join(directory.path, name);
      cpSync(join(ROOT, 'docs/recipes', name), app, { recursive: true });
      const options = { cwd: app, stdio: 'pipe' } as const;
      const quiet = ['--engine-strict', '--prefer-offline', '--no-audit', '--no-fund', '--loglevel=error'];
      execFileSync('npm', ['install', ...quiet, join(directory.path, packed)], options);
      execFileSync('npm', ['run', 'build'], options);
    }
    service = await TestService.start({
      pages: Object.fromEntries(FRAMEWORKS.map((name) => [`/${name}/`, join(directory.path, name, 'dist')])),
    });
    const schema = { type: 'object', properties: { text: { type: 'string', minLength: 1, maxLength: 30 } } };
    await service.request('PUT', '/v1/schemas/checks', { schema, mode: 'enforce' });
    const made = await service.request('POST', '/v1/keys', { name: 'app', scope: 'write', collections: ['checks'] });
    ({ key } = made.json as { key: string });
  });
  after(async () => {
    await service.stop();
    directory.remove();
  });

  const stored = async (id: string) =>
    (await service.request('GET', `/v1/data/checks/${id}`)).json as { data?: object };
  const texts = (page: Page) => page.locator('li label').allTextContents();

  for (const name of FRAMEWORKS) {
    it(`${name}: lists, adds, toggles and deletes, at once, offline, and undone when refused`, async () => {
      const { json } = await service.request('GET', '/v1/data/checks');
      for (const { id } of json.documents as { id: string }[]) await service.request('DELETE', `/v1/data/checks/${id}`);
      for (const id of ['burner', 'radio'])
        await service.request('PUT', `/v1/data/checks/${id}`, { text: id, done: false });
      const page = await windows.open(`${service.url}/${name}/index.html#${key}`);
      await page.getByText('online', { exact: true }).waitFor();
      await page.getByText('radio').waitFor();
      expect((await texts(page)).map((text) => text.trim())).to.deep.equal(['burner', 'radio']);

      await service.request('PUT', '/v1/data/checks/gas', { text: 'gas', done: true });
      await page.getByRole('checkbox', { name: 'gas' }).waitFor();
      expect(await page.getByRole('checkbox', { name: 'gas' }).isChecked()).to.equal(true);
      expect((await texts(page)).map((text) => text.trim())).to.deep.equal(['burner', 'gas', 'radio']);

      await page.getByRole('textbox', { name: 'New check' }).fill('wind');
      await page.getByRole('button', { name: 'Add' }).click();
      await page.getByText('wind').waitFor();
      await page.getByRole('checkbox', { name: 'burner' }).click();
      await until('it is toggled', async () => (await stored('burner')).data?.['done' as never] === true);
      await page.getByRole('button', { name: 'Delete radio' }).click();
      await until('it is deleted', async () => (await stored('radio')).data === undefined);

      // Writes show at once without a connection, and arrive later.
      await page.context().setOffline(true);
      await page.getByRole('checkbox', { name: 'gas' }).click();
      await page.locator('li.pending').getByText('gas').waitFor();
      await page.getByText(/, 1 waiting/).waitFor();
      expect(await page.getByRole('checkbox', { name: 'gas' }).isChecked()).to.equal(false);
      await page.context().setOffline(false);
      await page.getByText('online', { exact: true }).waitFor();
      await until('it has arrived', async () => (await stored('gas')).data?.['done' as never] === false);
      await until('nothing is pending', async () => (await page.locator('li.pending').count()) === 0);

      // A write that the store refuses is undone, with the reason.
      await page
        .getByRole('textbox', { name: 'New check' })
        .fill('a text that is far too long for one line of the list');
      await page.getByRole('button', { name: 'Add' }).click();
      await page.getByRole('alert').waitFor();
      expect(await page.getByRole('alert').textContent()).to.match(/schema|30/);
      await until('it is gone', async () => (await page.locator('li').count()) === 3);
      await page.close();
    });
  }
});
