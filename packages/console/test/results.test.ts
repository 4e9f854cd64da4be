import { expect } from 'chai';
import type { Page } from 'playwright-core';
import { KEY, until } from '../../../test/service.js';
import { MovingService } from './moving-service.js';
import { Windows } from './windows.js';

describe('results as maps, charts, cards and boards', function () {
  this.timeout(120_000);
  const windows = new Windows();
  const moving = new MovingService({}, ['balloons', 'tasks', 'console-queries', 'console-boards']);
  const balloons = () => moving.store.collection('balloons');
  const open = (path: string, options = {}): Promise<Page> => windows.signIn(moving.service.url, path, KEY, options);
  const point = (longitude: number, latitude: number) => ({ type: 'Point', coordinates: [longitude, latitude] });
  const choose = (page: Page, label: string, value: string) =>
    page.getByRole('combobox', { name: label }).selectOption(value);

  before(async () => {
    const writes = Array.from({ length: 12 }, (_, n) => ({
      put: `balloons/bl-${n}`,
      data: {
        name: `Balloon ${n}`,
        status: n % 3 === 0 ? 'landed' : 'aloft',
        altitude: n * 100,
        position: point((n - 6) / 50, (n - 6) / 80),
      },
    }));
    const areas = [
      {
        put: 'areas/a-1',
        data: {
          name: 'Launch field',
          outline: {
            type: 'Polygon',
            coordinates: [
              [
                [-0.01, -0.01],
                [0.01, -0.01],
                [0.01, 0.01],
                [-0.01, -0.01],
              ],
            ],
          },
        },
      },
      {
        put: 'areas/a-2',
        data: {
          name: 'River',
          outline: {
            type: 'LineString',
            coordinates: [
              [-0.1, 0],
              [0.1, 0.02],
            ],
          },
        },
      },
    ];
    const tasks = ['open', 'open', 'doing', 'done'].map((state, n) => ({
      put: `tasks/t-${n}`,
      data: { title: `Task ${n}`, state },
    }));
    await moving.store.commit({ writes: [...writes, ...areas, ...tasks] });
  });

  it('shows documents on a map, beside the table; what is picked on one is marked on the other', async () => {
    const page = await open('data/balloons');
    await page.getByRole('radio', { name: 'Map' }).check({ force: true });
    await page.getByRole('group', { name: /Map of 12 documents/ }).waitFor();
    await choose(page, 'colour', 'status');
    await choose(page, 'base layer', 'areas');
    await page.getByRole('list', { name: 'Colours by status' }).getByText('aloft').waitFor();
    expect(new URL(page.url()).search).to.equal('?show=map&colour=status&base=areas');
    // A row that is selected is shown with its facts.
    await page.locator('[data-row="bl-11"]').getByRole('checkbox').click();
    const card = page.getByRole('complementary', { name: 'Selected document' });
    await card.getByText('Balloon 11').waitFor();
    await card.getByText('1100').waitFor();
    // The balloon stands in the corner of all. A click there picks it.
    await card.getByRole('button', { name: 'Close' }).click();
    await page.getByRole('button', { name: 'Clear selection' }).click();
    const ground = (await page.getByRole('group', { name: /Map of/ }).boundingBox())!;
    await until('a click on the last balloon picks it', async () => {
      for (let x = ground.x + ground.width - 60; x < ground.x + ground.width - 20; x += 8) {
        for (let y = ground.y + 40; y < ground.y + ground.height / 2; y += 14) {
          await page.mouse.move(x, y);
          const tip = page.locator('.tip');
          if ((await tip.count()) === 0 || !(await tip.innerText()).includes('bl-11')) continue;
          await page.mouse.click(x, y);
          return true;
        }
      }
      return false;
    });
    await page.locator('[data-row="bl-11"][aria-selected="true"]').waitFor();
    await card.getByRole('button', { name: 'Open bl-11' }).click();
    await page.waitForURL(/data\/balloons\/bl-11\?show=map/);
    await page.context().close();
  });

  it('turns a box on the map into a selection, or a condition', async () => {
    const page = await open('data/balloons?show=map');
    const map = page.getByRole('group', { name: /Map of 12 documents/ });
    await map.waitFor();
    await page.waitForTimeout(500);
    const drag = async () => {
      const ground = (await map.boundingBox())!;
      await page.mouse.move(ground.x + 4, ground.y + 4);
      await page.mouse.down();
      await page.mouse.move(ground.x + ground.width / 2, ground.y + ground.height - 4, { steps: 5 });
      await page.mouse.up();
    };
    await page.getByRole('button', { name: 'Select a box' }).click();
    await drag();
    const counted = await page.getByRole('status').getByText('in the box').innerText();
    const count = Number(/\d+/.exec(counted)![0]);
    expect(count).to.be.within(5, 7);
    await page.getByRole('status').getByRole('button', { name: 'Select' }).click();
    await page.getByText(`${count} selected`).waitFor();
    await page.keyboard.down('Shift');
    await drag();
    await page.keyboard.up('Shift');
    await page.getByRole('button', { name: 'Show only these' }).click();
    await page.waitForURL(/where=S_INTERSECTS/);
    await page.getByRole('group', { name: `Map of ${count} documents` }).waitFor();
    await page.context().close();
  });

  it('says what is missing where nothing can be drawn', async () => {
    const page = await open('data/tasks?show=map');
    await page.getByText('No field of these documents holds a place').waitFor();
    await page.getByRole('radio', { name: 'Chart' }).check({ force: true });
    await page.getByText('No field of these documents holds a number').waitFor();
    await page.context().close();
  });

  it('draws numbers over time, back through the journal', async () => {
    for (const altitude of [150, 180, 240]) await balloons().merge('bl-1', { altitude });
    const page = await open("data/balloons?where=meta('id')%20=%20'bl-1'&show=chart&field=altitude");
    const reading = page.locator('.readings output');
    await page.getByText('Reading earlier values…').waitFor({ state: 'detached' });
    await until('the newest value is read', async () => (await reading.innerText()) === '240');
    await balloons().merge('bl-1', { altitude: 305 });
    await until('a change is drawn', async () => (await reading.innerText()) === '305');
    // The line reaches back to values from before the page was opened.
    const plot = page.getByRole('img', { name: /altitude of 1 document/ });
    const box = (await plot.boundingBox())!;
    const seen = new Set<string>();
    for (let x = box.x + box.width * 0.5; x < box.x + box.width - 20; x += 4) {
      await page.mouse.move(x, box.y + box.height / 2);
      seen.add(await reading.innerText());
    }
    expect([...seen])
      .to.include('100')
      .and.include('305');
    await page.context().close();
  });

  it('draws the groups of a summary as bars that follow', async () => {
    const page = await open('query?from=tasks&summary=count()&by=state&show=chart');
    const bars = page.getByRole('region', { name: 'Bars' });
    const text = async () =>
      (await bars.locator('li').allInnerTexts()).map((one) => one.replace(/\s+/g, ' ').trim()).join(', ');
    await until('the largest group is first', async () => (await text()) === 'open 2, doing 1, done 1');
    await moving.store.commit({
      writes: [5, 6].map((n) => ({ put: `tasks/t-${n}`, data: { title: `Task ${n}`, state: 'done' } })),
    });
    await until('a bar grows', async () => (await text()) === 'done 3, open 2, doing 1');
    await moving.store.commit({ writes: [5, 6].map((n) => ({ delete: `tasks/t-${n}` })) });
    await page.context().close();
  });

  it('moves a card to another column by drag and by keyboard, and undoes it', async () => {
    const page = await open('data/tasks?show=cards');
    const column = (name: string) => page.getByRole('region', { name, exact: true });
    const stored = async () => (await moving.store.collection('tasks').get('t-0'))!.data.state;
    await column('open')
      .getByRole('button', { name: /Task 0/ })
      .dragTo(column('done').locator('.stack'));
    await column('done')
      .getByRole('button', { name: /Task 0/ })
      .waitFor();
    await until('it is stored', async () => (await stored()) === 'done');
    await page.getByText('Saved state of t-0').waitFor();
    await page.getByRole('button', { name: 'Undo' }).click();
    await column('open')
      .getByRole('button', { name: /Task 0/ })
      .waitFor();
    await until('that is stored', async () => (await stored()) === 'open');

    const card = column('open').getByRole('button', { name: /Task 0/ });
    await card.focus();
    await page.keyboard.press('ArrowDown');
    await page.keyboard.press('ArrowUp');
    await page.keyboard.press('Control+ArrowLeft');
    await until('it is written', async () => (await stored()) === 'done');
    await column('done')
      .getByRole('button', { name: /Task 0/ })
      .waitFor();
    await until('the card keeps the focus', () =>
      page.evaluate(() => (document.activeElement as HTMLElement | null)?.dataset.card === 't-0'),
    );
    await page.keyboard.press('Control+z');
    await until('it is undone', async () => (await stored()) === 'open');
    // A column stays when its last card has left.
    await moving.store.collection('tasks').merge('t-2', { state: 'done' });
    await until('the column is empty', async () => (await column('doing').locator('output').innerText()) === '0');
    await moving.store.collection('tasks').merge('t-2', { state: 'doing' });
    await page.context().close();
  });

  it('goes back in time change by change, and puts a document back', async () => {
    await balloons().put('bl-20', { name: 'Late', status: 'packed', altitude: 0 });
    await balloons().merge('bl-20', { status: 'aloft', altitude: 100 });
    const before = (await balloons().get('bl-20'))!.version;
    await balloons().merge('bl-20', { altitude: 900 });
    await balloons()
      .delete('bl-19')
      .catch(() => undefined);
    const page = await open("data/balloons?where=status%20=%20'aloft'");
    const altitude = page.locator('[data-row="bl-20"] [data-field="altitude"]');
    await altitude.getByText('900').waitFor();
    await page.getByRole('button', { name: 'Rewind' }).click();
    const bar = page.getByRole('region', { name: 'Rewind' });
    await bar.getByText('altitude 100 → 900').waitFor();
    await bar.getByRole('button', { name: 'Previous change' }).click();
    await altitude.getByText('100', { exact: true }).waitFor();
    await bar.getByText('status packed → aloft').waitFor();
    await page.waitForURL((url) => url.searchParams.get('at') === String(before));
    await bar.getByRole('button', { name: 'Previous change' }).click();
    await page.locator('[data-row="bl-20"]').waitFor({ state: 'detached' });
    // To a seq, and from the address.
    await bar.getByLabel('Go to a seq or time').fill(String(before));
    await bar.getByRole('button', { name: 'Go' }).click();
    await altitude.getByText('100', { exact: true }).waitFor();
    await page.waitForURL((url) => url.searchParams.get('at') === String(before));
    await page.reload();
    await altitude.getByText('100', { exact: true }).waitFor();
    await bar.getByRole('button', { name: 'Put back bl-20' }).click();
    const dialog = page.getByRole('dialog');
    await dialog.getByText('1 is changed').waitFor();
    await dialog.getByRole('button', { name: 'Put back' }).click();
    await until('it is put back', async () => (await balloons().get('bl-20'))!.data.altitude === 100);
    await page.getByRole('button', { name: 'Undo' }).click();
    await until('that is undone', async () => (await balloons().get('bl-20'))!.data.altitude === 900);
    await bar.getByRole('button', { name: 'Back to live' }).click();
    await altitude.getByText('900').waitFor();
    // Played from the start, it ends with what it was.
    await page.getByRole('button', { name: 'Rewind' }).click();
    await bar.getByText('altitude 100 → 900').waitFor();
    await choose(page, 'Speed', '600');
    await bar.getByRole('slider', { name: 'Moment' }).fill('0');
    await page.locator('[data-row="bl-20"]').waitFor({ state: 'detached' });
    await bar.getByRole('button', { name: 'Play' }).click();
    await altitude.getByText('900').waitFor();
    await page.context().close();
  });

  it('finds changes that lie far back between those of other documents, on the chart and when rewound', async () => {
    await balloons().put('bl-40', { name: 'Rare', status: 'packed', altitude: 7 });
    await balloons().merge('bl-40', { altitude: 8 });
    // A page of the journal holds 500 commits, whatever is asked for.
    for (let n = 0; n < 1100; n += 50) {
      await Promise.all(
        Array.from({ length: 50 }, (_, k) => moving.store.collection('noise').put('n-1', { n: n + k })),
      );
    }
    const page = await open("data/balloons?where=meta('id')%20=%20'bl-40'&show=chart&field=altitude");
    await page.getByText('Reading earlier values…').waitFor({ state: 'detached' });
    const plot = page.getByRole('img', { name: /altitude of 1 document/ });
    const box = (await plot.boundingBox())!;
    const seen = new Set<string>();
    for (let x = box.x + box.width * 0.5; x < box.x + box.width - 20; x += 4) {
      await page.mouse.move(x, box.y + box.height / 2);
      seen.add(await page.locator('.readings output').innerText());
    }
    expect([...seen]).to.include('8');
    await page.getByRole('button', { name: 'Rewind' }).click();
    const bar = page.getByRole('region', { name: 'Rewind' });
    await bar.getByText('altitude 7 → 8').waitFor();
    await page.context().close();
  });

  it('puts back a document that existed without being in the result, instead of deleting it', async () => {
    await balloons().put('bl-41', { name: 'Outside', status: 'packed', altitude: 1 });
    await balloons().put('bl-42', { name: 'Marker', status: 'aloft', altitude: 2 });
    const marker = (await balloons().get('bl-42'))!.version;
    await balloons().merge('bl-41', { status: 'aloft' });
    const page = await open("data/balloons?where=status%20=%20'aloft'");
    await page.locator('[data-row="bl-41"]').getByRole('checkbox').click();
    await page.getByRole('button', { name: 'Rewind' }).click();
    const bar = page.getByRole('region', { name: 'Rewind' });
    await bar.getByLabel('Go to a seq or time').fill(String(marker));
    await bar.getByRole('button', { name: 'Go' }).click();
    await page.locator('[data-row="bl-41"]').waitFor({ state: 'detached' });
    await bar.getByRole('button', { name: 'Put back bl-41' }).click();
    await page.getByRole('dialog').getByText('1 is changed').waitFor();
    await page.getByRole('dialog').getByRole('button', { name: 'Put back' }).click();
    await until('it is packed again', async () => (await balloons().get('bl-41'))?.data.status === 'packed');
    await page.context().close();
  });

  it('saves queries, opens them by their addresses, and shows several on a board', async () => {
    const page = await open("query?from=balloons&where=status%20=%20'aloft'&show=map");
    await page.getByRole('button', { name: /^Saved/ }).click();
    await page.getByText('No saved queries yet').waitFor();
    await page.getByRole('menuitem', { name: 'Save this query as…' }).click();
    await page.getByLabel('name').last().fill('Balloons aloft');
    await page.getByRole('dialog').getByRole('button', { name: 'Save' }).click();
    await page.waitForURL(/saved=balloons-aloft/);
    expect((await moving.store.collection('console-queries').get('balloons-aloft'))!.data).to.deep.equal({
      name: 'Balloons aloft',
      query: { from: 'balloons', where: "status = 'aloft'", limit: '100' },
      show: { show: 'map' },
    });
    await moving.store.collection('console-queries').put('states', {
      name: 'Tasks by state',
      query: { from: 'tasks', summary: 'count()', by: 'state' },
      show: { show: 'chart' },
    });

    const board = await open('boards');
    await board.getByText('There are no boards yet').waitFor();
    await board.getByRole('button', { name: 'New board' }).click();
    await board.getByLabel('Name of the board').fill('Tower');
    await board.getByRole('button', { name: 'Create' }).click();
    await board.waitForURL(/boards\/tower$/);
    await choose(board, 'Add a query', 'balloons-aloft');
    await board
      .getByRole('region', { name: 'Balloons aloft' })
      .getByRole('group', { name: /Map of/ })
      .waitFor();
    await choose(board, 'Add a query', 'states');
    await board.getByRole('region', { name: 'Tasks by state' }).getByText('doing').waitFor();
    await board.getByRole('button', { name: 'Change Tasks by state' }).click();
    await board.getByRole('menuitem', { name: 'Move forward' }).click();
    const tiles = async () => (await moving.store.collection('console-boards').get('tower'))!.data.tiles;
    await until('the tiles are stored', async () => JSON.stringify(await tiles()).startsWith('[{"query":"states"'));
    // A saved query that is gone is said, and one that is changed is shown as it is now.
    await moving.store.collection('console-queries').delete('balloons-aloft');
    await board.getByText('The saved query “balloons-aloft” does not exist.').waitFor();
    await board.reload();
    await board.getByRole('region', { name: 'Tasks by state' }).getByText('doing').waitFor();
    await board.context().close();
    await page.context().close();
  });
});
