import { expect } from 'chai';
import type { Page } from 'playwright-core';
import { KEY, until } from '../../../test/service.js';
import { TYPING_MS } from './movement.js';
import { MovingService } from './moving-service.js';
import { Windows, writeInto } from './windows.js';

describe('editing in the console while everything moves', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  const moving = new MovingService();

  const open = async (path: string): Promise<Page> => {
    const page = await windows.signIn(moving.service.url, path, KEY);
    await page.locator('[data-row]').first().waitFor();
    return page;
  };
  const cell = (page: Page, id: string, field: string) => page.locator(`[data-row="${id}"] [data-field="${field}"]`);
  const type = (page: Page, text: string) => page.keyboard.type(text, { delay: TYPING_MS });
  const dataOf = async (collection: string, id: string) => (await moving.store.collection(collection).get(id))?.data;
  const strip = (page: Page) => page.getByRole('list', { name: 'Edits that are not saved' });
  const fill = (collection: string, count: number, data: (n: number) => object) =>
    moving.store.commit({
      writes: Array.from({ length: count }, (_, n) => ({ put: `${collection}/d-${n}`, data: data(n) as never })),
    });

  describe('a cell', function () {
    // Typing at a person’s speed, in a browser that shares two cores with other tests.
    this.timeout(150_000);
    it('keeps its editor, the text and the focus while its row changes places', async () => {
      await fill('race', 30, (n) => ({ place: n, name: `Balloon ${n}` }));
      const page = await open('data/race?order=place');
      let turn = 0;
      const shuffle = setInterval(() => {
        turn++;
        for (const n of [3, turn % 30])
          void moving.store
            .collection('race')
            .merge(`d-${n}`, { place: (turn * 7) % 30 })
            .catch(() => undefined);
      }, 60);
      try {
        for (const name of ['Amber Heron over the hill', 'Coral', 'Teal Meadow']) {
          const editor = page.getByLabel('name of d-3');
          // The row may move between the aim and the click; then another cell opens, or none.
          for (let tries = 0; tries < 10 && (await editor.count()) === 0; tries++) {
            await page.keyboard.press('Escape');
            await cell(page, 'd-3', 'name').dblclick();
          }
          await type(page, name);
          expect(await editor.inputValue({ timeout: 5000 })).to.equal(name);
          await page.keyboard.press('Enter');
          await until('it is saved', async () => (await dataOf('race', 'd-3'))?.name === name);
        }
      } finally {
        clearInterval(shuffle);
      }
      await page.context().close();
    });

    it('continues when its row leaves the result, is scrolled away, comes back, or is deleted', async () => {
      await fill('gone', 300, (n) => ({ n, status: 'aloft', name: `Balloon ${n}` }));
      const page = await open("data/gone?where=status='aloft'&order=n");
      await cell(page, 'd-2', 'name').dblclick();
      await type(page, 'Half ty');
      await moving.store.collection('gone').merge('d-2', { status: 'packed' });
      await page.getByText('which is not in this result any more').waitFor();
      await type(page, 'ped');
      expect(await page.getByLabel('name of d-2').inputValue()).to.equal('Half typed');
      await page.keyboard.press('Enter');
      await until('it is saved all the same', async () => (await dataOf('gone', 'd-2'))?.name === 'Half typed');

      await cell(page, 'd-3', 'name').dblclick();
      await type(page, 'Far ');
      await page.getByRole('grid').evaluate((grid) => (grid.scrollTop = 5000));
      await page.getByText('which is further up').waitFor();
      await type(page, 'away');
      await page.getByRole('grid').evaluate((grid) => (grid.scrollTop = 0));
      await page.getByText('which is further up').waitFor({ state: 'detached' });
      await type(page, ' and back');
      await page.keyboard.press('Enter');
      await until('it is saved', async () => (await dataOf('gone', 'd-3'))?.name === 'Far away and back');

      await cell(page, 'd-4', 'name').dblclick();
      await type(page, 'Deleted by others');
      await moving.store.collection('gone').delete('d-4');
      await page.getByText('which is not in this result any more').waitFor();
      await page.keyboard.press('Enter');
      const alert = strip(page).getByRole('alert');
      await alert.getByText('d-4 was deleted meanwhile.').waitFor();
      expect(await alert.innerText()).to.include('Deleted by others');
      await alert.getByRole('button', { name: 'Recreate the document' }).click();
      await until('it is there again', async () => (await dataOf('gone', 'd-4'))?.name === 'Deleted by others');
      expect(await dataOf('gone', 'd-4')).to.include({ n: 4, status: 'aloft' });
      await strip(page).waitFor({ state: 'detached' });
      await page.context().close();
    });

    it('continues when it was in the last row of the result', async () => {
      await moving.store.collection('single').put('s-1', { status: 'aloft', name: 'Amber' });
      const page = await open("data/single?where=status='aloft'");
      await cell(page, 's-1', 'name').dblclick();
      await type(page, 'The last ');
      await moving.store.collection('single').merge('s-1', { status: 'packed' });
      await page.getByText('No document matches the condition').waitFor();
      await type(page, 'one');
      await page.keyboard.press('Enter');
      await until('it is saved', async () => (await dataOf('single', 's-1'))?.name === 'The last one');
      await page.context().close();
    });

    it('is saved when the focus leaves it, and undone by a button or a key', async () => {
      await fill('left', 5, (n) => ({ name: `Balloon ${n}`, size: n, aloft: n % 2 === 0, pad: null }));
      const page = await open('data/left');
      const edit = async (id: string, field: string, text: string) => {
        await cell(page, id, field).dblclick();
        await type(page, text);
      };
      await edit('d-0', 'name', 'By Tab');
      await page.keyboard.press('Tab');
      await until('Tab saves', async () => (await dataOf('left', 'd-0'))?.name === 'By Tab');
      expect(await page.evaluate(() => (document.activeElement as HTMLElement).dataset.cell), 'the next one').to.equal(
        'size',
      );
      await edit('d-1', 'name', 'By a click');
      await page.locator('main h1').click();
      await until('a click elsewhere saves', async () => (await dataOf('left', 'd-1'))?.name === 'By a click');
      expect(await page.locator('.editor input').count()).to.equal(0);
      await edit('d-2', 'name', 'By another cell');
      await edit('d-3', 'size', '42');
      await until('another editor saves', async () => (await dataOf('left', 'd-2'))?.name === 'By another cell');
      await page.keyboard.press('Shift+Tab');
      await until('so does Shift+Tab', async () => (await dataOf('left', 'd-3'))?.size === 42);
      await page
        .locator('.ant-notification-notice')
        .filter({ hasText: '3 → 42' })
        .getByRole('button', { name: 'Undo' })
        .click();
      await until('it is undone', async () => (await dataOf('left', 'd-3'))?.size === 3);
      await page.getByText('size of d-3 is 3 again').waitFor();
      await cell(page, 'd-3', 'name').click();
      await page.keyboard.press('Control+z');
      await until('the one before, too', async () => (await dataOf('left', 'd-2'))?.name === 'Balloon 2');
      await moving.store.collection('left').merge('d-1', { name: 'By others' });
      await cell(page, 'd-1', 'name').getByText('By others').waitFor();
      await page.keyboard.press('Control+z');
      await page.getByText('The edit of name of d-1 was not undone').waitFor();
      expect((await dataOf('left', 'd-1'))?.name).to.equal('By others');

      await edit('d-4', 'aloft', 'false');
      await page.keyboard.press('Enter');
      await until('a boolean is one', async () => (await dataOf('left', 'd-4'))?.aloft === false);
      await edit('d-4', 'pad', 'p-1');
      await page.keyboard.press('Enter');
      await page.getByRole('alert').getByText('neither a number').waitFor();
      await page.keyboard.press('Control+A');
      await type(page, '"p-1"');
      await page.keyboard.press('Enter');
      await until('null becomes a text', async () => (await dataOf('left', 'd-4'))?.pad === 'p-1');
      await edit('d-4', 'name', 'Given up');
      await page.keyboard.press('Escape');
      expect(await page.locator('.editor input').count()).to.equal(0);
      expect((await dataOf('left', 'd-4'))?.name).to.equal('Balloon 4');
      await page.context().close();
    });

    it('does not overwrite what someone else wrote into an empty cell', async () => {
      await moving.store.collection('empty').put('e-1', { name: 'Amber', pad: 'p-1' });
      await moving.store.collection('empty').put('e-2', { name: 'Coral' });
      const page = await open('data/empty');
      await cell(page, 'e-2', 'pad').dblclick();
      await type(page, 'p-7');
      await moving.store.collection('empty').merge('e-2', { pad: 'p-9' });
      await page.keyboard.press('Enter');
      await strip(page).getByText('Another user changed this field.').waitFor();
      expect((await dataOf('empty', 'e-2'))?.pad).to.equal('p-9');
      await strip(page).getByRole('button', { name: 'Save yours' }).click();
      await until('it is saved over it', async () => (await dataOf('empty', 'e-2'))?.pad === 'p-7');
      await cell(page, 'e-2', 'pad').click();
      await page.keyboard.press('Control+z');
      await until('undone to theirs', async () => (await dataOf('empty', 'e-2'))?.pad === 'p-9');
      await cell(page, 'e-2', 'name').dblclick();
      await page.keyboard.press('Control+A');
      await page.keyboard.press('Delete');
      await page.keyboard.press('Enter');
      await until('an empty text', async () => (await dataOf('empty', 'e-2'))?.name === '');
      await page.context().close();
    });

    it('that cannot be saved stays in sight with the reason, on other pages and over a reload', async () => {
      await fill('refused', 4, (n) => ({ name: `Balloon ${n}`, size: n }));
      await moving.service.request('PUT', '/v1/schemas/refused', {
        mode: 'enforce',
        schema: { properties: { size: { maximum: 10 } } },
      });
      const page = await open('data/refused');
      await cell(page, 'd-1', 'size').dblclick();
      await type(page, '4x');
      await page.locator('main h1').click();
      await strip(page).getByText('This is neither a number').waitFor();
      await cell(page, 'd-2', 'size').dblclick();
      await type(page, '99');
      await page.keyboard.press('Enter');
      await strip(page).getByText('size of d-2').waitFor();
      await strip(page)
        .getByText(/at most 10|<= 10|maximum/)
        .waitFor();
      await page.getByRole('link', { name: 'Journal' }).click();
      const listed = page.getByRole('region', { name: 'Edits that are not saved' });
      await listed.getByText('size of refused/d-1').waitFor();
      await page.reload();
      await listed.getByText('size of refused/d-2').click();
      await strip(page).waitFor();
      expect(await strip(page).innerText())
        .to.include('4x')
        .and.include('99');
      const first = strip(page).locator('li').filter({ hasText: 'size of d-1' });
      await first.getByRole('button', { name: 'Edit' }).click();
      await page.getByLabel('size of d-1').waitFor();
      await page.keyboard.press('End');
      await page.keyboard.press('Backspace');
      await page.keyboard.press('Enter');
      await until('it is saved', async () => (await dataOf('refused', 'd-1'))?.size === 4);
      await strip(page)
        .locator('li')
        .filter({ hasText: 'size of d-2' })
        .getByRole('button', { name: 'Discard' })
        .click();
      await strip(page).waitFor({ state: 'detached' });
      await page.context().close();
    });
  });

  describe('a document', function () {
    // Typing at a person’s speed, in a browser that shares two cores with other tests.
    this.timeout(150_000);
    it('continues in the same input at any length, and follows the store without moving the cursor', async () => {
      await moving.store.collection('texts').put('t-1', { height: 1, remark: 'short', speed: 2 });
      const page = await open('data/texts/t-1');
      const editor = page.getByLabel('Data of the document as JSON');
      await editor.getByText('short').click();
      await page.keyboard.press('End');
      await moving.store.collection('texts').merge('t-1', { height: 12345 });
      await editor.getByText('12345').waitFor();
      await moving.store.collection('texts').merge('t-1', { speed: 67890 });
      await editor.getByText('67890').waitFor();
      await type(page, ' ');
      await page.keyboard.press('ArrowLeft');
      await page.keyboard.press('ArrowLeft');
      await page.keyboard.press('ArrowLeft');
      await type(page, ' and long');
      expect(await editor.innerText()).to.include('"short and long"');
      await page.getByRole('button', { name: 'Discard changes' }).last().click();

      await page.getByText('Form', { exact: true }).click();
      const input = page.getByRole('textbox', { name: 'remark' });
      await input.click();
      await page.keyboard.press('Control+End');
      const rest = ' but then it goes on and on over more than sixty characters, and further';
      await type(page, rest);
      expect(await input.inputValue()).to.equal(`short${rest}`);
      await page.getByRole('button', { name: 'Save', exact: true }).click();
      await page.getByText('Up to date').waitFor();
      expect((await dataOf('texts', 't-1'))?.remark).to.equal(`short${rest}`);
      await page.context().close();
    });

    it('is not saved with a number that is none, and takes decimals as they are typed', async () => {
      await moving.store.collection('numbers').put('n-1', { altitude: 4, tags: ['a'] });
      const page = await open('data/numbers/n-1');
      await page.getByText('Form', { exact: true }).click();
      const input = page.getByRole('textbox', { name: 'altitude' });
      await input.click();
      await page.keyboard.press('Control+A');
      await type(page, '5x');
      await page.getByText('altitude: A number was expected.').waitFor();
      await page.getByText('Unsaved changes').waitFor();
      expect(await page.getByRole('button', { name: 'Save', exact: true }).isDisabled()).to.equal(true);
      await moving.store.collection('numbers').merge('n-1', { altitude: 44 });
      await page.waitForTimeout(300);
      expect(await input.inputValue(), 'others do not take it away').to.equal('5x');
      await page.getByRole('button', { name: 'Discard changes' }).last().click();
      await page.getByText('Up to date').waitFor();
      expect(await input.inputValue()).to.equal('44');
      await input.click();
      await page.keyboard.press('Control+A');
      await type(page, '1.05');
      expect(await input.inputValue()).to.equal('1.05');
      const list = page.getByRole('textbox', { name: 'tags' });
      await list.click();
      await page.keyboard.press('Control+A');
      await type(page, '["a", "b"]');
      expect(await list.inputValue()).to.equal('["a", "b"]');
      await page.getByRole('button', { name: 'Save', exact: true }).click();
      await page.getByText('Up to date').waitFor();
      expect(await dataOf('numbers', 'n-1')).to.deep.equal({ altitude: 1.05, tags: ['a', 'b'] });
      const kind = page.getByLabel('Type of altitude');
      await kind.selectOption('nothing');
      await kind.selectOption('number');
      expect(await input.inputValue(), 'its former value').to.equal('1.05');
      await page.context().close();
    });

    it('is a draft over closing, reloading and leaving, with what others changed meanwhile', async () => {
      await moving.store.collection('drafts').put('d-1', { name: 'Amber', size: 1 });
      const page = await open('data/drafts/d-1');
      await writeInto(page, 'Data of the document as JSON', '{"name": "Amber Heron", "size": 1}');
      let asked = 0;
      page.on('dialog', (dialog) => {
        asked += dialog.type() === 'beforeunload' ? 1 : 0;
        void dialog.accept();
      });
      await page.reload();
      expect(asked, 'the browser asks before it reloads').to.equal(1);
      await page.getByText('These are unsaved changes from an earlier visit.').waitFor();
      await page.getByLabel('Data of the document as JSON').getByText('Amber Heron').waitFor();
      await page.locator('.ant-drawer-close').click();
      await page.getByRole('link', { name: 'Devices' }).click();
      await moving.store.collection('drafts').merge('d-1', { size: 2 });
      await page.getByRole('region', { name: 'Edits that are not saved' }).getByText('drafts/d-1').click();
      await page.getByText(/was saved while you edited/).waitFor();
      await page.getByText('Saving keeps both changes.').waitFor();
      await page.getByRole('button', { name: 'Save', exact: true }).click();
      await until(
        'both are kept',
        async () => JSON.stringify(await dataOf('drafts', 'd-1')) === '{"name":"Amber Heron","size":2}',
      );
      await page.getByRole('region', { name: 'Edits that are not saved' }).waitFor({ state: 'detached' });

      await page.locator('.ant-drawer-close').click();
      await page.getByRole('button', { name: 'New document' }).click();
      await page.getByLabel('Id', { exact: true }).click();
      await type(page, 'd-2');
      await page.keyboard.press('Escape');
      await page
        .getByRole('region', { name: 'Edits that are not saved' })
        .getByText('New document of drafts')
        .waitFor();
      await page.reload();
      await page.getByRole('button', { name: 'New document' }).click();
      expect(await page.getByLabel('Id', { exact: true }).inputValue()).to.equal('d-2');
      await page.getByRole('button', { name: 'Cancel' }).last().click();
      await page.getByRole('region', { name: 'Edits that are not saved' }).waitFor({ state: 'detached' });
      await page.context().close();
    });

    it('continues while it is being saved', async () => {
      await moving.store.collection('slow').put('s-1', { name: 'Amber' });
      const page = await open('data/slow/s-1');
      await writeInto(page, 'Data of the document as JSON', '{"name": "One"}');
      await moving.service.service.close();
      await page.getByText('Not connected').waitFor();
      await page.keyboard.press('Control+s');
      await page.keyboard.press('Control+Home');
      await page.keyboard.press('ArrowRight');
      await type(page, '"more": 2, ');
      windows.expectFaults(/ERR_CONNECTION_REFUSED|ERR_CONNECTION_RESET|ERR_EMPTY_RESPONSE/);
      await moving.service.restart();
      await until('the first is saved', async () => (await dataOf('slow', 's-1'))?.name === 'One', 60_000);
      await page.waitForTimeout(300);
      expect((await page.getByLabel('Data of the document as JSON').innerText()).replace(/\s/g, '')).to.equal(
        '{"more":2,"name":"One"}',
      );
      await page.getByText('Unsaved changes').waitFor();
      await page.keyboard.press('Control+s');
      await until('so is the rest', async () => (await dataOf('slow', 's-1'))?.more === 2);
      await page.context().close();
    });
  });

  it('asks before it signs out with edits that are not saved, and leaves nothing for the next person', async () => {
    await moving.store.collection('leaving').put('l-1', { name: 'Amber' });
    const page = await open('data/leaving/l-1');
    await writeInto(page, 'Data of the document as JSON', '{"name": "secret"}');
    await page.locator('.ant-drawer-close').click();
    await page.getByRole('button', { name: 'Sign out' }).click();
    const dialog = page.getByRole('dialog').filter({ hasText: 'discard an edit?' });
    await dialog.getByRole('button', { name: 'Cancel' }).click();
    await dialog.waitFor({ state: 'hidden' });
    await page.getByText('Connected', { exact: true }).waitFor();
    await page.getByRole('button', { name: 'Sign out' }).click();
    await dialog.getByRole('button', { name: 'Sign out' }).click();
    await page.getByLabel('Key').waitFor();
    expect(await page.evaluate(() => JSON.stringify({ ...sessionStorage }))).not.to.include('secret');
    await page.context().close();
  });
});
