import { expect } from 'chai';
import type { Page } from 'playwright-core';
import { KEY, until } from '../../../test/service.js';
import { TYPING_MS } from './movement.js';
import { MovingService } from './moving-service.js';
import { expectStored } from './stored.js';
import { Windows, writeInto } from './windows.js';

describe('working with documents in the console', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  const moving = new MovingService({}, ['places']);

  const open = async (path: string): Promise<Page> => {
    const page = await windows.signIn(moving.service.url, path, KEY, {
      permissions: ['clipboard-read', 'clipboard-write'],
    });
    await page.locator('[data-row]').first().waitFor();
    return page;
  };
  const cell = (page: Page, id: string, field: string) => page.locator(`[data-row="${id}"] [data-field="${field}"]`);
  const header = (page: Page, name: string) => page.getByRole('columnheader').filter({ hasText: name });
  const names = async (page: Page) =>
    (await page.locator('[role=columnheader] .text').allTextContents()).filter((name) => name !== 'version');
  const shownIds = (page: Page) =>
    page.locator('[data-row]').evaluateAll((rows) => rows.map((row) => (row as HTMLElement).dataset.row!));
  const fill = async (collection: string, count: number, data: (n: number) => object) => {
    for (let from = 0; from < count; from += 5000) {
      const writes = Array.from({ length: Math.min(5000, count - from) }, (_, n) => ({
        put: `${collection}/d-${String(from + n).padStart(6, '0')}`,
        data: data(from + n) as never,
      }));
      await moving.store.commit({ writes });
    }
  };

  it('continues after a discarded edit, while rows change places', async () => {
    await fill('race', 40, (n) => ({ place: n, name: `Balloon ${n}` }));
    const page = await open('data/race?order=place');
    let turn = 0;
    const shuffle = setInterval(() => {
      const id = `d-${String(turn++ % 40).padStart(6, '0')}`;
      moving.store
        .collection('race')
        .merge(id, { place: (turn * 7) % 40 })
        .catch(() => undefined);
    }, 100);
    try {
      for (let round = 0; round < 3; round++) {
        await page.locator('[data-row] [data-field="name"]').nth(2).dblclick();
        await page.keyboard.type('Half', { delay: TYPING_MS });
        await page.keyboard.press('Escape');
        await page.keyboard.press('Control+k');
        await page.getByRole('dialog').waitFor();
        await page.keyboard.press('Escape');
        await page.getByRole('dialog').waitFor({ state: 'detached' });
      }
    } finally {
      clearInterval(shuffle);
    }
    await page.context().close();
  });

  it('offers the fields of the collection for a new document', async () => {
    await fill('teams', 6, (n) => ({
      name: `Crew ${n}`,
      size: n,
      radio: { channel: n },
      ...(n === 0 ? { odd: true } : {}),
    }));
    const page = await open('data/teams');
    await page.getByRole('button', { name: 'New document' }).click();
    const editor = page.getByLabel('Data of the document as JSON');
    await editor.getByText('radio').waitFor();
    const text = (await editor.innerText()).replace(/\s/g, '');
    expect(JSON.parse(text)).to.deep.equal({ name: '', size: 0, radio: { channel: 0 } });
    await page.context().close();
  });

  it('lets columns be chosen, moved, made wider and unfolded, and remembers that', async () => {
    await fill('shapes', 30, (n) => ({
      name: `s ${n}`,
      size: n,
      wind: { speed: n / 2, gust: n },
      since: '2031-06-12T04:30:00Z',
      ...(n === 7 ? { nmae: 'oops' } : {}),
      mixture: n % 5 === 0 ? 'text' : n,
    }));
    const page = await open('data/shapes');
    expect(await names(page)).to.deep.equal(['name', 'size', 'wind', 'since', 'mixture', 'nmae']);
    expect(await page.locator('[role=columnheader] .type').allTextContents()).to.deep.equal([
      'abc',
      '123',
      '{ }',
      'time',
      'mix',
      'abc',
    ]);
    expect(await header(page, 'nmae').getAttribute('title'))
      .to.include('Only 1 of the sampled documents has it')
      .and.include('Was “name” meant?');
    expect(await header(page, 'mixture').getAttribute('title'))
      .to.include('24 × number')
      .and.include('6 × text');

    await cell(page, 'd-000003', 'wind').getByRole('button', { name: 'Show the members of wind as columns' }).click();
    await cell(page, 'd-000003', 'wind.speed').getByText('1.5').waitFor();
    expect(await names(page)).to.deep.equal(['name', 'size', 'wind.speed', 'wind.gust', 'since', 'mixture', 'nmae']);

    await page.getByRole('button', { name: /^Columns/ }).click();
    await page.getByRole('list', { name: 'Columns' }).getByRole('checkbox', { name: 'since' }).uncheck();
    await page.getByRole('button', { name: 'mixture to the left' }).click();
    await page.keyboard.press('Escape');
    await header(page, 'size')
      .locator('button')
      .dragTo(header(page, 'name'), { targetPosition: { x: 4, y: 8 } });
    const expected = ['size', 'name', 'wind.speed', 'wind.gust', 'mixture', 'nmae'];
    await until('it stands first', async () => (await names(page)).join() === expected.join());
    const before = (await header(page, 'name').boundingBox())!.width;
    const grip = (await header(page, 'name').getByRole('separator').boundingBox())!;
    await page.mouse.move(grip.x + 3, grip.y + 8);
    await page.mouse.down();
    await page.mouse.move(grip.x + 63, grip.y + 8, { steps: 4 });
    await page.mouse.up();
    const after = (await header(page, 'name').boundingBox())!.width;
    expect(after - before).to.be.closeTo(60, 3);
    await page.reload();
    await page.locator('[data-row]').first().waitFor();
    expect(await names(page)).to.deep.equal(expected);
    expect((await header(page, 'name').boundingBox())!.width).to.be.closeTo(after, 1);
    await page.getByRole('button', { name: /^Columns/ }).click();
    await page.getByRole('button', { name: 'Reset columns' }).click();
    await until('all is as before', async () => (await names(page)).join() === 'name,size,wind,since,mixture,nmae');
    await page.context().close();
  });

  it('orders by a click on a header, and by more with the shift key', async () => {
    await fill('ranks', 6, (n) => ({ group: n % 2, rank: n }));
    const page = await open('data/ranks');
    const order = () => new URL(page.url()).searchParams.get('order');
    await header(page, 'rank').locator('button').click();
    await header(page, 'rank').locator('button').click();
    await until('it is in the address', () => order() === '-rank');
    await until('the last is first', async () => (await shownIds(page))[0] === 'd-000005');
    expect(await header(page, 'rank').getAttribute('aria-sort')).to.equal('descending');
    await header(page, 'rank').locator('button').click();
    await until('no order any more', () => order() === null);
    await header(page, 'group').locator('button').click();
    await until('by group', () => order() === 'group');
    await header(page, 'rank')
      .locator('button')
      .click({ modifiers: ['Shift'] });
    await header(page, 'rank')
      .locator('button')
      .click({ modifiers: ['Shift'] });
    await until('by both', () => order() === 'group,-rank');
    await until(
      'in that order',
      async () => (await shownIds(page)).join() === [4, 2, 0, 5, 3, 1].map((n) => `d-00000${n}`).join(),
    );
    await header(page, 'version').locator('button').click();
    await until('by metadata', () => order() === "meta('version')");
    await page.context().close();
  });

  it('completes names and values in conditions, and marks mistakes in place', async () => {
    await fill('weather', 20, (n) => ({ status: n % 2 ? 'calm' : "it's gusty", wind: { speed: n } }));
    const page = await open('data/weather');
    await page.getByLabel('where', { exact: true }).click();
    await page.keyboard.type('win');
    await page.getByRole('option', { name: 'wind.speed' }).waitFor();
    await page.keyboard.press('Escape');
    await writeInto(page, 'where', '');
    await page.keyboard.type('status = ');
    await page.getByRole('option', { name: "'it''s gusty'" }).waitFor();
    // The list ignores keys for 75 ms after it has opened.
    await page.waitForTimeout(200);
    await page.keyboard.press('ArrowDown');
    const picked = await page.locator('[role=option][aria-selected=true]').textContent();
    await page.keyboard.press('Enter');
    await page.keyboard.press('Enter');
    await page.getByText('10 documents').waitFor();
    expect(new URL(page.url()).searchParams.get('where')).to.equal(`status = ${picked}`);
    await writeInto(page, 'where', 'wind.speed > > 3');
    await page.locator('.cm-lintRange-error').waitFor();
    expect(await page.locator('.cm-lintRange-error').textContent()).to.equal('>');
    await page.context().close();
  });

  it('pauses and resumes, and keeps its place when rows appear above', async () => {
    await fill('places', 400, (n) => ({ n }));
    const page = await open('data/places');
    const grid = page.getByRole('grid');
    await grid.evaluate((element) => (element.scrollTop = 28 * 100));
    await page.locator('[data-row="d-000100"]').waitFor();
    const top = () => page.locator('[data-row="d-000105"]').evaluate((row) => row.getBoundingClientRect().top);
    const before = await top();
    for (let n = 0; n < 5; n++) await moving.store.collection('places').put(`a-${n}`, { n });
    await page.getByText('405 documents').waitFor();
    expect(await top()).to.be.closeTo(before, 1);
    await moving.store.collection('places').delete('a-0');
    await page.getByText('404 documents').waitFor();
    expect(await top()).to.be.closeTo(before, 1);

    await page.getByRole('button', { name: 'Pause' }).click();
    await moving.store.collection('places').merge('d-000105', { n: 'moved' });
    await moving.store.collection('places').delete('d-000106');
    await page.getByRole('button', { name: 'Resume (2 changed)' }).waitFor();
    await cell(page, 'd-000105', 'n').getByText('105', { exact: true }).waitFor();
    await page.getByText('paused').waitFor();
    await page.getByRole('button', { name: /^Resume/ }).click();
    await cell(page, 'd-000105', 'n').getByText('moved').waitFor();
    await page.locator('[data-row="d-000106"]').waitFor({ state: 'detached' });
    await page.context().close();
  });

  it('edits a cell in place, sends that field alone, and shows who was faster', async () => {
    await moving.store.collection('edits').put('e-1', { name: 'Amber', size: 3, tags: ['a'] });
    const page = await open('data/edits');
    await cell(page, 'e-1', 'size').dblclick();
    const input = page.getByLabel('size of e-1');
    await input.fill('four');
    await page.keyboard.press('Enter');
    await page.getByRole('alert').getByText('neither a number').waitFor();
    await moving.store.collection('edits').merge('e-1', { name: 'Amber Heron' });
    await input.fill('44');
    await page.keyboard.press('Enter');
    await cell(page, 'e-1', 'size').getByText('44').waitFor();
    await expectStored(moving.store, 'edits/e-1', {
      name: 'Amber Heron',
      size: 44,
      tags: ['a'],
    });

    await cell(page, 'e-1', 'size').focus();
    await page.keyboard.press('F2');
    await input.fill('7');
    await moving.store.collection('edits').merge('e-1', { size: 50 });
    await cell(page, 'e-1', 'name').waitFor();
    await page.getByLabel('size of e-1').press('Enter');
    const conflict = page.getByRole('alert').filter({ hasText: 'Another user changed this field' });
    await conflict.waitFor();
    expect((await conflict.locator('dd').allTextContents()).map((text) => text.trim())).to.deep.equal([
      '44',
      '50',
      '7',
    ]);
    await conflict.getByRole('button', { name: 'Save yours' }).click();
    await until('mine is written', async () => (await moving.store.collection('edits').get('e-1'))!.data.size === 7);
    await cell(page, 'e-1', 'tags').focus();
    await page.keyboard.press('Enter');
    await page.getByLabel('tags of e-1').fill('');
    await page.keyboard.press('Enter');
    await until(
      'the field is removed',
      async () => !('tags' in (await moving.store.collection('edits').get('e-1'))!.data),
    );
    await cell(page, 'e-1', 'name').dblclick();
    await page.keyboard.type('thrown away');
    await page.keyboard.press('Escape');
    expect((await moving.store.collection('edits').get('e-1'))!.data.name).to.equal('Amber Heron');
    await page.context().close();
  });

  it('deletes several with undo, duplicates one, and moves by keyboard', async () => {
    await fill('many', 12, (n) => ({ n }));
    const page = await open('data/many');
    await page.getByLabel('Select d-000002').click();
    await page.getByLabel('Select d-000005').click({ modifiers: ['Shift'] });
    await page.getByText('4 selected').waitFor();
    await page.getByRole('toolbar').getByRole('button', { name: 'Delete' }).click();
    await page.getByRole('tooltip').getByRole('button', { name: 'Delete' }).click();
    await page.getByText('8 documents').waitFor();
    await page.getByRole('button', { name: 'Undo' }).click();
    await page.getByText('12 documents').waitFor();
    await expectStored(moving.store, 'many/d-000004', { n: 4 });

    await page.locator('[data-row="d-000000"] [data-cell="id"]').focus();
    await page.keyboard.press('ArrowDown');
    await page.keyboard.press('Space');
    await page.getByText('1 selected').waitFor();
    await page.getByRole('button', { name: 'Duplicate' }).click();
    await page.getByText('Like d-000001').waitFor();
    await page.getByRole('button', { name: 'Create' }).click();
    await page.waitForURL(/\/data\/many\/[0-9a-f-]{36}$/);
    const id = page.url().split('/').at(-1)!;
    await expectStored(moving.store, `many/${id}`, { n: 1 });
    await page.context().close();
  });

  it('imports a dropped file, skips bad rows with a message, and exports the shown rows', async () => {
    const page = await open('data/many');
    const drop = (name: string, text: string) =>
      page.locator('main').evaluate(
        (element, [fileName, content]) => {
          const data = new DataTransfer();
          data.items.add(new File([content!], fileName!));
          element.dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true }));
        },
        [name, text],
      );
    const drawer = page.locator('.ant-drawer');
    await drop('crews.csv', 'id,name,members,captain\nc-1,Amber,4,true\nc-2,"Coral, the",007,\n');
    await drawer.getByRole('button', { name: 'Write 2 documents' }).waitFor();
    await drawer.getByLabel('Into the collection').fill('crews');
    await drawer.getByRole('button', { name: 'Write 2 documents' }).click();
    await drawer.getByRole('button', { name: 'Show them' }).click();
    await page.waitForURL(/\/data\/crews/);
    expect(
      (await moving.store.collection('crews').list()).documents.map(({ id, data }) => ({ id, data })),
    ).to.deep.equal([
      { id: 'c-1', data: { name: 'Amber', members: 4, captain: true } },
      { id: 'c-2', data: { name: 'Coral, the', members: '007' } },
    ]);
    await drop('more.ndjson', '{"id":"c-1","name":"other"}\n{"id":"c-3","name":\n{"id":"c-4","name":"Jade"}\n[1]\n');
    await drawer.getByText('2 of 4 are invalid').waitFor();
    expect(await drawer.getByText('line 2:').textContent()).to.include('line 4: A document must be a JSON object.');
    await drawer.getByRole('button', { name: 'Write 2 documents' }).click();
    await drawer.getByRole('button', { name: 'Show them' }).click();
    await page.getByText('3 documents').waitFor();
    expect((await moving.store.collection('crews').get('c-1'))!.data.name, 'the stored value stays').to.equal('Amber');
    await drop('broken.csv', '"');
    await drawer.getByRole('alert').waitFor();
    await drawer.getByRole('button', { name: 'Close' }).click();

    await writeInto(page, 'where', 'members = 4');
    await page.keyboard.press('Enter');
    await page.getByText('1 documents').waitFor();
    const saved = async (kind: RegExp) => {
      await page.getByRole('button', { name: 'Export' }).click();
      const [download] = await Promise.all([
        page.waitForEvent('download'),
        page.getByRole('menuitem', { name: kind }).click(),
      ]);
      const pieces: Buffer[] = [];
      for await (const piece of await download.createReadStream()) pieces.push(piece as Buffer);
      return { name: download.suggestedFilename(), text: Buffer.concat(pieces).toString() };
    };
    const csv = await saved(/^CSV/);
    expect(csv.name).to.equal('crews.csv');
    expect(csv.text.trim().split('\n')[1]).to.match(/^c-1,.*Amber/);
    expect(JSON.parse((await saved(/^JSON$/)).text)).to.have.length(1);
    await page.context().close();
  });

  it('edits a document as a form, and shows two edits of one field side by side', async () => {
    await moving.store
      .collection('forms')
      .put('f-1', { name: 'Amber', size: 3, aloft: false, pilot: { name: 'Ines' }, tags: ['a'] });
    const page = await open('data/forms/f-1');
    await page.getByText('Form', { exact: true }).click();
    await page.getByLabel('name', { exact: true }).first().fill('Amber Heron');
    await page.getByRole('switch').click();
    await page.getByRole('textbox', { name: 'size' }).fill('three');
    await page.getByText('size: A number was expected.').waitFor();
    await page.getByRole('textbox', { name: 'size' }).fill('5');
    await page.getByLabel('Name of a new field of pilot').fill('hours');
    await page.keyboard.press('Enter');
    await page.getByRole('button', { name: 'Remove tags' }).click();
    await moving.store.collection('forms').merge('f-1', { note: 'by another user' });
    await page.getByText('Saving keeps both changes.').waitFor();
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await page.getByText('Up to date').waitFor();
    await expectStored(moving.store, 'forms/f-1', {
      name: 'Amber Heron',
      size: 5,
      aloft: true,
      pilot: { name: 'Ines', hours: '' },
      note: 'by another user',
    });

    await page.getByRole('textbox', { name: 'size' }).fill('6');
    await page.getByLabel('name', { exact: true }).first().fill('Mine');
    await moving.store.collection('forms').merge('f-1', { size: 7, name: 'Theirs' });
    const rows = page.locator('.ant-drawer').locator('table tbody tr');
    await rows.nth(1).waitFor();
    expect(await rows.nth(1).innerText()).to.match(/size\s+5\s+7\s+6/);
    expect(await page.getByRole('button', { name: 'Save', exact: true }).isDisabled()).to.equal(true);
    await rows.nth(0).getByRole('radio').first().check();
    await page.getByRole('button', { name: 'Use these values' }).click();
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await until('both are kept', async () => {
      const { data } = (await moving.store.collection('forms').get('f-1'))!;
      return data.name === 'Theirs' && data.size === 6;
    });
    await page.context().close();
  });

  it('scrolls through thirty thousand live documents', async () => {
    await fill('crowd', 30_000, (n) => ({ n, name: `visitor ${n}` }));
    const page = await open('data/crowd');
    await page.getByText('30,000 documents').waitFor({ timeout: 120_000 });
    expect(await page.locator('[data-row]').count()).to.be.below(80);
    await page.getByRole('grid').evaluate((element) => element.scrollTo(0, 28 * 20_000));
    await cell(page, 'd-020010', 'n').getByText('20010').waitFor();
    await moving.store.collection('crowd').merge('d-020010', { name: 'seen' });
    await cell(page, 'd-020010', 'name').getByText('seen').waitFor();
    await moving.store.collection('crowd').put('a-first', { n: 0 });
    await page.getByText('30,001 documents').waitFor();
    await cell(page, 'd-020010', 'name').getByText('seen').waitFor();
    await page.context().close();
  });
});
