import { expect } from 'chai';
import { parse } from 'csv-parse/sync';
import type { Page } from 'playwright-core';
import { drawBalloon } from '@uproar/demo';
import { KEY, until } from '../../../test/service.js';
import { TYPING_MS } from './movement.js';
import { MovingService } from './moving-service.js';
import { Windows, writeInto } from './windows.js';

describe('what the page about the console promises', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  const moving = new MovingService({ accounts: 'open' }, ['logged'], (store) =>
    store.collection('balloons').put('bl-1', { name: 'Amber', altitude: 1, crew: 'c-1' }),
  );

  const open = async (path: string, key = KEY, options?: Parameters<Windows['signIn']>[3]): Promise<Page> => {
    const page = await windows.signIn(moving.service.url, path, key, options);
    await page.locator('[data-row], main h1').first().waitFor();
    return page;
  };
  const type = (page: Page, text: string) => page.keyboard.type(text, { delay: TYPING_MS });
  const saved = async (page: Page, kind: RegExp) => {
    await page.getByRole('button', { name: 'Export' }).click();
    const [download] = await Promise.all([
      page.waitForEvent('download'),
      page.getByRole('menuitem', { name: kind }).click(),
    ]);
    const pieces: Buffer[] = [];
    for await (const piece of await download.createReadStream()) pieces.push(piece as Buffer);
    return Buffer.concat(pieces).toString();
  };

  it('exports hold what the condition finds, in its order, with the columns that are shown, however odd the text', async () => {
    const odd = ['plain', 'with "quotes"', 'a, b; c', 'two\nlines', ' spaced ', "it's", 'é 🎈', '=1+1', ''];
    await moving.store.commit({
      writes: odd.map((text, n) => ({
        put: `odd/o-${n}`,
        data: { n, text, deep: { 'a.b': text }, hidden: n, list: [n, text] },
      })),
    });
    await moving.store.collection('odd').put('o-out', { n: 99, text: 'not found' });
    const page = await open('data/odd?where=n < 50&order=-n');
    await page.getByText(`${odd.length} documents`).waitFor();
    await page.getByRole('button', { name: /^Columns/ }).click();
    await page.getByRole('list', { name: 'Columns' }).getByRole('checkbox', { name: 'hidden' }).uncheck();
    await page.keyboard.press('Escape');
    const found = odd.map((text, n) => ({ n, text })).reverse();
    const csv = parse(await saved(page, /^CSV/), { columns: true }) as Record<string, string>[];
    expect(csv.map(({ text }) => text)).to.deep.equal(found.map(({ text }) => text));
    expect(Object.keys(csv[0]!)).to.include('n').and.not.include('hidden');
    const json = JSON.parse(await saved(page, /^JSON$/)) as { id: string; data: Record<string, unknown> }[];
    const lines = (await saved(page, /^NDJSON/))
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line) as (typeof json)[number]);
    expect(lines).to.deep.equal(json);
    for (const [index, { n, text }] of found.entries()) {
      expect(json[index]).to.include({ id: `o-${n}` });
      expect(json[index]!.data).to.deep.equal({ n, text, deep: { 'a.b': text }, list: [n, text] });
    }
    await page.context().close();
  });

  it('a save that the policy refuses loses nothing, and says why', async () => {
    await moving.service.request('PUT', '/v1/policy', {
      text: 'collections:\n  balloons:\n    read: true\n    update: "crew = claim(\'crew\') AND altitude < 1000"\n',
    });
    await moving.service.request('POST', '/v1/accounts', {
      name: 'ada',
      password: 'amber-balloon',
      claims: { crew: 'c-1' },
    });
    const session = await moving.service.as(null)('POST', '/v1/sessions', { name: 'ada', password: 'amber-balloon' });
    windows.expectFaults(/^403 (GET|POST) /);
    const page = await open('data/balloons', session.json.accessToken);
    await page.locator('[data-row="bl-1"] [data-field="altitude"]').dblclick();
    await type(page, '5000');
    await page.keyboard.press('Enter');
    const strip = page.getByRole('list', { name: 'Edits that are not saved' });
    await strip.getByText('5000').waitFor();
    expect(await strip.locator('.why').innerText()).to.match(/policy|allow|may not/i);
    await strip.getByRole('button', { name: 'Discard' }).click();
    await page.locator('[data-row="bl-1"] [data-cell="id"]').click();
    await writeInto(page, 'Data of the document as JSON', '{"name": "Amber", "altitude": 7000, "crew": "c-1"}');
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await page
      .locator('.ant-drawer')
      .getByRole('alert')
      .filter({ hasText: /policy|allow|may not/i })
      .first()
      .waitFor();
    await page.getByText('Unsaved changes').waitFor();
    await page.getByLabel('Data of the document as JSON').getByText('7000').waitFor();
    expect((await moving.store.collection('balloons').get('bl-1'))?.data.altitude).to.equal(1);
    await page.context().close();
  });

  it('a revoked key ends the session with a message, and keeps typed text', async () => {
    const made = await moving.store.post<{ id: string; key: string }>('/v1/keys', {
      name: 'temporary',
      scope: 'write',
    });
    windows.expectFaults(/^40[13] /);
    const page = await open('data/balloons', made.key);
    await page.locator('[data-row="bl-1"] [data-field="name"]').dblclick();
    await type(page, 'Typed by then');
    await moving.store.request('DELETE', `/v1/keys/${made.id}`);
    await page.getByText('Refused', { exact: true }).waitFor();
    await page.keyboard.press('Enter');
    await page.getByText('Typed by then').or(page.getByLabel('name of bl-1')).first().waitFor();
    expect(await page.evaluate(() => JSON.stringify({ ...sessionStorage }))).to.include('Typed by then');
    await page.context().close();
  });

  it('the journal is narrowed by collection, document and condition', async () => {
    for (let n = 0; n < 6; n++) await moving.store.collection('logged').put(`l-${n % 2}`, { n });
    const page = await open('journal');
    const options = page.getByRole('listbox', { name: 'Changes, newest first' }).getByRole('option');
    await options.first().waitFor();
    await page.getByLabel('Collection', { exact: true }).selectOption('logged');
    await until('only these', async () => (await options.count()) === 6);
    await page.getByLabel('where, before or after').click();
    await type(page, 'n >= ');
    await page.getByRole('option', { name: '4', exact: true }).waitFor();
    await type(page, '4');
    await until(
      'one completion is left',
      async () => (await page.getByRole('option', { name: '4', exact: true }).count()) === 1,
    );
    await page.waitForTimeout(200);
    // It equals the typed text, so Enter runs the query.
    await page.keyboard.press('Enter');
    await until('two changes', async () => (await options.count()) === 2);
    await page.getByLabel('Document', { exact: true }).click();
    await type(page, 'logged/l');
    await page.getByLabel('Document', { exact: true }).press('Control+A');
    await type(page, 'logged/l-1');
    await page.keyboard.press('Enter');
    await until('one change', async () => (await options.count()) === 1);
    await moving.store.collection('logged').put('l-1', { n: 7 });
    await until('it follows', async () => (await options.count()) === 2);
    await moving.store.collection('logged').put('l-0', { n: 8 });
    await page.waitForTimeout(300);
    expect(await options.count()).to.equal(2);
    await page.context().close();
  });

  it('the plots of Operations show the span that is chosen', async () => {
    const page = await open('operations');
    await page.locator('canvas').first().waitFor();
    for (const span of ['2 min', '15 min', '5 min']) {
      await page.getByTitle(span, { exact: true }).click();
      await page.waitForTimeout(300);
      expect(await page.locator('canvas').count()).to.equal(8);
    }
    await page.context().close();
  });

  it('a file that is replaced shows its new content at once', async () => {
    const picture = (colour: string) =>
      new Blob([drawBalloon({ colours: [colour], panels: 8 }) as never], { type: 'image/png' });
    await moving.store.files.upload(picture('teal'), { id: 'pic', name: 'pic.png' });
    const page = await open('data/files/pic');
    const image = page.getByRole('img', { name: 'The content of pic' });
    await image.waitFor();
    const colour = () =>
      image.evaluate((element) => {
        const canvas = document.createElement('canvas');
        const drawn = element as unknown as HTMLImageElement;
        [canvas.width, canvas.height] = [drawn.naturalWidth, drawn.naturalHeight];
        const context = canvas.getContext('2d')!;
        context.drawImage(drawn, 0, 0);
        return [...context.getImageData(canvas.width / 2, canvas.height / 3, 1, 1).data].join();
      });
    const before = await colour();
    await moving.store.files.upload(picture('amber'), { id: 'pic', name: 'pic.png' });
    await until('another picture', async () => (await colour().catch(() => before)) !== before, 20_000);
    await page.context().close();
  });

  it('everything in the table can be done with the keyboard alone', async () => {
    await moving.store.commit({
      writes: Array.from({ length: 8 }, (_, n) => ({ put: `keys/k-${n}`, data: { name: `Key ${n}`, n } })),
    });
    const page = await open('data/keys');
    await page.locator('[data-row="k-0"] [data-cell="id"]').focus();
    const press = async (...keys: string[]) => {
      for (const key of keys) await page.keyboard.press(key, { delay: 30 });
    };
    await press('ArrowDown', 'ArrowDown', 'ArrowRight', 'ArrowRight', 'Enter');
    await page.getByLabel('name of k-2').waitFor();
    await type(page, 'By hand');
    await press('Tab');
    await until('it is saved', async () => (await moving.store.collection('keys').get('k-2'))?.data.name === 'By hand');
    await press('F2');
    await type(page, '77');
    await press('Enter');
    await until('the next one, too', async () => (await moving.store.collection('keys').get('k-2'))?.data.n === 77);
    await press('Control+z', 'Control+z');
    await until(
      'both are undone',
      async () => JSON.stringify((await moving.store.collection('keys').get('k-2'))?.data) === '{"name":"Key 2","n":2}',
    );
    await press('Space');
    await page.getByText('1 selected').waitFor();
    await press('Space', 'Home', 'Enter');
    await page.getByLabel('Data of the document as JSON').waitFor();
    expect(page.url()).to.match(/keys\/k-2$/);
    await page.context().close();
  });

  it('on a phone, an edit and what could not be saved fit the screen', async () => {
    await moving.store.collection('phones').put('p-1', { name: 'Amber', size: 1 });
    const page = await open('data/phones', KEY, { viewport: { width: 390, height: 800 } });
    await page.locator('[data-row="p-1"] [data-field="size"]').dblclick();
    await type(page, '12 and more');
    await page.locator('main h1').click();
    await page.getByRole('list', { name: 'Edits that are not saved' }).getByText('12 and more').waitFor();
    expect(await page.evaluate(() => document.documentElement.scrollWidth)).to.be.at.most(390);
    await page.getByRole('list', { name: 'Edits that are not saved' }).getByRole('button', { name: 'Edit' }).click();
    await page.keyboard.press('Control+A');
    await type(page, '12');
    await page.keyboard.press('Enter');
    await until('it is saved', async () => (await moving.store.collection('phones').get('p-1'))?.data.size === 12);
    await page.context().close();
  });

  it('two browsers at once: each sees what the other saves, and keeps what it types', async () => {
    await moving.store.collection('shared').put('s-1', { name: 'Amber', remark: '', n: 0 });
    const [left, right] = [await open('data/shared/s-1'), await open('data/shared/s-1')];
    for (const page of [left, right]) await page.locator('.ant-drawer').getByText('Form', { exact: true }).click();
    await left.getByRole('textbox', { name: 'name', exact: true }).click();
    await right.getByRole('textbox', { name: 'remark' }).click();
    await Promise.all([type(left, ' Heron over the hill'), type(right, 'seen from the gate')]);
    await left.getByRole('button', { name: 'Save', exact: true }).click();
    await left.getByText('Up to date').waitFor();
    await right.getByText('Saving keeps both changes.').waitFor();
    expect(await right.getByRole('textbox', { name: 'remark' }).inputValue()).to.equal('seen from the gate');
    await right.getByRole('button', { name: 'Save', exact: true }).click();
    await right.getByText('Up to date').waitFor();
    const { data } = (await moving.store.collection('shared').get('s-1'))!;
    expect(data.remark).to.equal('seen from the gate');
    expect(String(data.name)).to.include(' Heron over the hill');
    await until(
      'and the other follows',
      async () => (await left.getByRole('textbox', { name: 'remark' }).inputValue()) === 'seen from the gate',
    );
    await left.context().close();
    await right.context().close();
  });
});
