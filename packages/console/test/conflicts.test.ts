import { expect } from 'chai';
import type { Page } from 'playwright-core';
import { KEY, until } from '../../../test/service.js';
import { TYPING_MS } from './movement.js';
import { MovingService } from './moving-service.js';
import { expectStored } from './stored.js';
import { Windows, writeInto } from './windows.js';

describe('the console, when others work on the same', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  const moving = new MovingService({ accounts: 'open' }, ['journal'], (store) =>
    store.collection('balloons').put('bl-1', { name: 'Amber', altitude: 1 }),
  );

  const open = (path: string): Promise<Page> => windows.signIn(moving.service.url, path, KEY);
  const type = (page: Page, text: string) => page.keyboard.type(text, { delay: TYPING_MS });
  const fill = (collection: string, count: number, data: (n: number) => object) =>
    moving.store.commit({
      writes: Array.from({ length: count }, (_, n) => ({ put: `${collection}/d-${n}`, data: data(n) as never })),
    });
  const notice = (page: Page, text: string | RegExp) =>
    page.locator('.ant-notification-notice').filter({ hasText: text });
  const remove = async (page: Page) => {
    await page.getByRole('toolbar').getByRole('button', { name: 'Delete' }).click();
    await page.getByRole('tooltip').getByRole('button', { name: 'Delete' }).click();
  };

  it('deletes what it can of picked documents that move, names the others, and tries again', async () => {
    await fill('flock', 40, (n) => ({ n, turn: 0 }));
    const page = await open('data/flock');
    await page.locator('[data-row="d-0"]').waitFor();
    await page.getByRole('button', { name: 'Pause' }).click();
    // They change after the shown state, so that a delete would delete data that the user has not seen.
    for (const n of [3, 7, 11]) await moving.store.collection('flock').merge(`d-${n}`, { turn: 1 });
    await page.getByRole('button', { name: /^Resume \(/ }).waitFor();
    await page.getByLabel('Select all').click();
    await page.getByText('40 selected').waitFor();
    await remove(page);
    await notice(page, 'Deleted 37 documents').waitFor();
    const kept = notice(page, 'Not deleted: 3 documents');
    await kept.getByText('d-3, d-7, d-11').or(kept.getByText('d-11, d-3, d-7')).waitFor();
    expect((await moving.store.collection('flock').list()).documents).to.have.length(3);
    await page.getByRole('button', { name: /^Resume/ }).click();
    await kept.getByRole('button', { name: 'Try again' }).click();
    await until('all are deleted', async () => (await moving.store.collection('flock').list()).documents.length === 0);
    await notice(page, 'Deleted 3 documents').getByRole('button', { name: 'Undo' }).click();
    await notice(page, 'Restored 3 documents').waitFor();
    await expectStored(moving.store, 'flock/d-7', { n: 7, turn: 1 });
    await page.context().close();
  });

  it('deletes forty documents that are written all the time', async () => {
    await fill('busy', 40, (n) => ({ n, turn: 0 }));
    const page = await open('data/busy');
    await page.locator('[data-row="d-0"]').waitFor();
    let turn = 0;
    const writing = setInterval(() => {
      turn++;
      void moving.store
        .collection('busy')
        .merge(`d-${turn % 40}`, { turn })
        .catch(() => undefined);
    }, 25);
    const again = async () => {
      await notice(page, 'Not deleted').getByRole('button', { name: 'Try again' }).first().click();
      await page.waitForTimeout(300);
    };
    try {
      await page.getByLabel('Select all').click();
      await page.getByText('40 selected').waitFor();
      await remove(page);
      // The writes may win every race on a slow machine, and then the notice names all forty.
      await notice(page, /Deleted|Not deleted/)
        .first()
        .waitFor();
      for (let tries = 0; tries < 5 && (await notice(page, 'Not deleted').count()) > 0; tries++) await again();
    } finally {
      clearInterval(writing);
    }
    // A slow machine may lose every race while the writes go on. Once they stop, it must win.
    await until('none is left', async () => {
      if ((await notice(page, 'Not deleted').count()) > 0) await again();
      return (await moving.store.collection('busy').list()).documents.length === 0;
    });
    await page.context().close();
  });

  it('restores deleted documents, except those that were created again, and reports this', async () => {
    await fill('back', 5, (n) => ({ n }));
    const page = await open('data/back');
    await page.locator('[data-row="d-0"]').waitFor();
    await page.locator('[data-row="d-4"]').waitFor();
    await page.getByLabel('Select all').click();
    await remove(page);
    await notice(page, 'Deleted 5 documents').waitFor();
    await moving.store.collection('back').put('d-2', { n: 'by others' });
    await notice(page, 'Deleted 5 documents').getByRole('button', { name: 'Undo' }).click();
    await notice(page, 'Restored 4 documents').waitFor();
    const missing = notice(page, 'Not restored: d-2');
    await missing.getByText('Created again meanwhile.').waitFor();
    const [download] = await Promise.all([
      page.waitForEvent('download'),
      missing.getByRole('button', { name: 'Save as NDJSON' }).click(),
    ]);
    expect(download.suggestedFilename()).to.equal('back-deleted.ndjson');
    const { documents } = await moving.store.collection('back').list();
    expect(documents.map(({ data }) => data.n)).to.deep.equal([0, 1, 'by others', 3, 4]);
    await page.context().close();
  });

  it('shows a journal without gaps, and does not move the text that is read', async () => {
    await fill('journal', 3, (n) => ({ n }));
    const page = await open('journal?collection=journal');
    const list = page.getByRole('listbox', { name: 'Changes, newest first' });
    const panel = page.getByRole('region', { name: 'Before and after' });
    await list.getByRole('option').first().waitFor();
    const first = await panel.getByRole('heading').innerText();
    for (let n = 0; n < 1200; n += 50) {
      await Promise.all(
        Array.from({ length: 50 }, (_, i) => moving.store.collection('journal').put('d-0', { n: n + i })),
      );
    }
    await list.getByRole('option').first().getByText('n 1199').waitFor();
    expect(await list.getByRole('option').count(), 'the list is as long as it gets').to.equal(500);
    expect(await panel.getByRole('heading').innerText(), 'the open change stays').to.equal(first);
    const numbers = async () =>
      (await list.locator('.what').allTextContents()).map((text) => Number(/^n (\d+)$/.exec(text.trim())?.[1] ?? -1));
    const earlier = page.getByRole('button', { name: 'Show earlier changes' });
    for (let pages = 0; pages < 40 && (await earlier.count()) > 0; pages++) {
      // When the last page is shown, the button goes away under the mouse.
      await earlier.dblclick({ timeout: 1500 }).catch(() => undefined);
      await page.waitForTimeout(50);
    }
    const shown = await numbers();
    const ordered = shown.filter((n) => n >= 0);
    expect(new Set(ordered).size, 'each of them once').to.equal(1200);
    expect(shown).to.have.length(1203);
    // Further down it stands still, and says how much is newer.
    const scroller = page.locator('.list').filter({ has: list });
    await scroller.evaluate((element) => (element.scrollTop = 3000));
    const top = () =>
      list
        .getByRole('option')
        .nth(100)
        .evaluate((option) => option.getBoundingClientRect().top);
    const was = await top();
    for (let n = 0; n < 5; n++) await moving.store.collection('journal').put('d-1', { n: 9000 + n });
    await page.getByRole('button', { name: '5 newer changes' }).waitFor();
    expect(await top()).to.be.closeTo(was, 1);
    await page.getByRole('button', { name: '5 newer changes' }).click();
    await list.getByRole('option').first().getByText('n 9004').waitFor();
    await page.context().close();
  });

  it('keeps text that was typed and not run, through clicks, page changes and reloads', async () => {
    await fill('asked', 20, (n) => ({ n, status: n % 2 ? 'aloft' : 'packed' }));
    const page = await open('data/asked');
    const condition = page.getByLabel('where', { exact: true });
    await condition.click();
    await type(page, "status = 'aloft' AND n > ");
    await page.keyboard.press('Escape');
    await page.getByRole('columnheader').filter({ hasText: 'n' }).locator('button').first().click();
    await page.waitForURL(/order=/);
    expect(await condition.textContent()).to.equal("status = 'aloft' AND n > ");
    await page.getByRole('link', { name: 'Devices' }).click();
    await page.goBack();
    await condition.getByText('aloft').waitFor();
    await page.reload();
    await condition.getByText('aloft').waitFor();
    // Under another query the text is offered, and does not replace the shown query.
    await page.goto(`${moving.service.url}/console/data/asked?where=n%20%3C%203`);
    await page.getByText('3 documents').waitFor();
    expect(await condition.textContent()).to.equal('n < 3');
    await page.getByText('Typed earlier and not run:').waitFor();
    await page.getByRole('button', { name: 'Restore it' }).click();
    expect(await condition.textContent()).to.equal("status = 'aloft' AND n > ");
    await page.getByRole('button', { name: 'Reset' }).click();
    expect(await condition.textContent()).to.equal('n < 3');

    await page.getByRole('link', { name: 'Query', exact: true }).click();
    await page.getByLabel('fields', { exact: true }).click();
    await type(page, 'n,sta');
    await page.getByRole('link', { name: 'Journal', exact: true }).click();
    await page.getByLabel('where, before or after').click();
    await type(page, 'n > 1 AN');
    await page.getByLabel('Collection', { exact: true }).selectOption('asked');
    expect(await page.getByLabel('where, before or after').textContent()).to.equal('n > 1 AN');
    await page.getByRole('link', { name: 'Query', exact: true }).click();
    expect(await page.getByLabel('fields', { exact: true }).inputValue()).to.equal('n,sta');
    await page.context().close();
  });

  it('keeps the forms of Access across tabs, and the text of the schema', async () => {
    const page = await open('access/keys');
    await page.getByLabel('Name of the new key').click();
    await type(page, 'gate');
    await page.getByRole('tab', { name: 'Accounts' }).click();
    await page.getByLabel('Name of the new account').click();
    await type(page, 'ada');
    await page.getByLabel('Its password').click();
    await type(page, 'amber-balloon');
    await page.getByRole('tab', { name: 'Keys' }).click();
    expect(await page.getByLabel('Name of the new key').inputValue()).to.equal('gate');
    await page.getByRole('tab', { name: 'Accounts' }).click();
    expect(await page.getByLabel('Its password').inputValue()).to.equal('amber-balloon');
    expect(await page.evaluate(() => JSON.stringify({ ...sessionStorage })), 'never stored').not.to.include(
      'amber-balloon',
    );
    await page.goto(`${moving.service.url}/console/shapes/balloons?schema`);
    await page.getByText('proposed, not set').waitFor();
    await writeInto(page, 'The schema as JSON', '{"properties":{"altitude":{"maximum":3}}}');
    await page.getByRole('button', { name: 'Schema', exact: true }).click();
    await page.getByLabel('The schema as JSON').waitFor({ state: 'detached' });
    await page.getByRole('button', { name: 'Schema', exact: true }).click();
    await page.getByLabel('The schema as JSON').getByText('maximum').waitFor();
    await page.context().close();
  });

  it('shows a policy that another session has set next to one’s own, and allows to continue', async () => {
    windows.expectFaults(/^422 PUT \/v1\/policy$/);
    const policy = (name: string) => `collections:\n  balloons:\n    read: "name = '${name}'"\n`;
    await moving.service.request('PUT', '/v1/policy', { text: policy('One') });
    const page = await open('access/policy');
    await page.getByLabel('The policy in YAML').getByText('One').waitFor();
    await writeInto(page, 'The policy in YAML', policy('Mine'));
    await moving.service.request('PUT', '/v1/policy', { text: policy('Theirs') });
    await page.getByText(/put version 2 in force at .* while you edited version 1/).waitFor();
    expect(await page.getByRole('button', { name: 'Put in force' }).isDisabled()).to.equal(true);
    await page.getByRole('button', { name: 'Compare' }).click();
    await page
      .getByLabel(/^Version 2, in force/)
      .getByText('Theirs')
      .waitFor();
    await page.getByLabel('Yours, to be edited').getByText('Mine').waitFor();
    await page.getByRole('button', { name: 'End the comparison' }).click();
    await page.getByRole('tab', { name: 'Audit log' }).click();
    await page.getByRole('tab', { name: 'Policy' }).click();
    await page.getByLabel('The policy in YAML').getByText('Mine').waitFor();
    await page.getByLabel('Version of the policy').selectOption('1');
    await page.getByLabel('Yours, to be edited').getByText('Mine').waitFor();
    await page.getByRole('button', { name: 'End the comparison' }).click();
    await page.getByRole('button', { name: 'Continue with yours' }).click();
    await page.getByRole('button', { name: 'Put in force' }).click();
    await page.getByText('Version 3 is in force').waitFor();
    expect((await moving.service.request('GET', '/v1/policy')).json.text).to.equal(policy('Mine'));
    // Without edits of one's own the page follows.
    await moving.service.request('PUT', '/v1/policy', { text: policy('Four') });
    await page.getByLabel('The policy in YAML').getByText('Four').waitFor();

    let previews = 0;
    windows.expectFaults(/^404 POST \/v1\/policy\/preview$/);
    await page.getByText('Account', { exact: true }).click();
    page.on('request', (request) => (previews += request.url().endsWith('/v1/policy/preview') ? 1 : 0));
    await page.getByLabel('Name of the account').click();
    await type(page, 'no-such-account');
    await page.keyboard.press('Enter');
    await page.getByText('does not exist').waitFor();
    await page.waitForTimeout(1500);
    expect(previews, 'asked once, though the collection moves').to.equal(1);
    await page.context().close();
  });

  it('enforces a schema that some documents do not fit, once one says so', async () => {
    await fill('marks', 12, (n) => ({ n }));
    const page = await open('shapes/marks?schema');
    await page.getByText('proposed, not set').waitFor();
    await page.getByRole('button', { name: 'Check all documents' }).click();
    await page.getByText('All 12 documents fit.').waitFor();
    await writeInto(page, 'The schema as JSON', '{"properties":{"n":{"maximum":9}}}');
    await page.getByText('All 12 documents fit.').waitFor({ state: 'detached' });
    await page.getByLabel('What to do with writes that violate the schema').selectOption('enforce');
    windows.expectFaults(/^409 PUT \/v1\/schemas\/marks$/, /^422 PUT \/v1\/schemas\/marks$/);
    await page.getByRole('button', { name: 'Set', exact: true }).click();
    await page.getByText('2 of 12 documents do not fit.').waitFor();
    await page.getByRole('button', { name: 'Enforce anyway' }).click();
    await page.getByText('version 1, enforce').waitFor();
    await moving.service.request('PUT', '/v1/schemas/marks', {
      mode: 'warn',
      schema: { properties: { n: { maximum: 11 } } },
    });
    await page.getByText('version 2, warn').waitFor();
    // An empty editor is an edit too: the panel looks at the store every 5 s, and leaves it alone.
    await page.getByLabel('The schema as JSON').click();
    await page.keyboard.press('Control+A');
    await page.keyboard.press('Delete');
    await page.waitForTimeout(5500);
    expect((await page.getByLabel('The schema as JSON').innerText()).trim()).to.equal('');
    await writeInto(page, 'The schema as JSON', '{"properties":{"n":{"maximum":10}}}');
    await moving.service.request('PUT', '/v1/schemas/marks', {
      mode: 'warn',
      schema: { properties: { n: { maximum: 12 } } },
    });
    await page.getByText(/set version 3 while you edited version 2/).waitFor();
    await page.getByRole('button', { name: 'Take theirs' }).click();
    await page.getByRole('tooltip').getByRole('button', { name: 'Discard' }).click();
    await page.getByLabel('The schema as JSON').getByText('12').waitFor();
    await page.getByRole('button', { name: 'Remove', exact: true }).click();
    await page.getByRole('tooltip').getByRole('button', { name: 'Remove' }).click();
    await page.getByText('proposed, not set').waitFor();
    await page.context().close();
  });

  it('stops an import with a message about the written rows, and resumes it', async () => {
    const page = await open('data/balloons');
    const lines = Array.from({ length: 20_000 }, (_, n) => `{"id":"i-${n}","n":${n}}`).join('\n');
    await page.locator('main').evaluate((element, content) => {
      const data = new DataTransfer();
      data.items.add(new File([content], 'many.ndjson'));
      element.dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true }));
    }, lines);
    const drawer = page.locator('.ant-drawer');
    await drawer.getByLabel('Into the collection').fill('imported');
    await drawer.getByRole('button', { name: 'Write 20,000 documents' }).click();
    await drawer.getByText(/^[\d,]+ written/).waitFor();
    await drawer.getByRole('button', { name: 'Stop' }).click();
    const status = drawer.getByRole('status');
    await status.getByText('Stopped:').waitFor();
    const [, written, left] = /([\d,]+) written, ([\d,]+) not written/.exec(await status.innerText())!;
    const number = (text: string) => Number(text.replaceAll(',', ''));
    expect(number(written!) + number(left!)).to.equal(20_000);
    const counted = async () =>
      (await moving.store.collection('imported').summary('count()').list()).documents[0]!.data['count()'];
    expect(await counted()).to.equal(number(written!));
    await drawer.getByRole('button', { name: `Continue with ${left}` }).click();
    await drawer.getByText('20,000 written').waitFor();
    expect(await counted()).to.equal(20_000);
    await page.context().close();
  });

  it('imports what can be taken of a CSV file, and says how it was read', async () => {
    await moving.store.collection('gates').put('g-2', { name: 'there before' });
    const page = await open('data/gates');
    await page.locator('main').evaluate((element) => {
      const data = new DataTransfer();
      const text = 'id,name,name,size;cm\ng-1,North,N,4\ng-2,South,S,5,6\ng-3,"East"x,E,6\ng-4,West,W,7\n';
      data.items.add(new File([text], 'gates.csv'));
      element.dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true }));
    });
    const drawer = page.locator('.ant-drawer');
    await drawer.getByText('2 of 4 are invalid and will be skipped.').waitFor();
    await drawer.getByText('line 3: It has 5 values, but the heading has 4.').waitFor();
    await drawer.getByText('its field is “name 2”').waitFor();
    expect(await drawer.getByLabel('Values are separated by').inputValue()).to.equal(',');
    await drawer.getByRole('button', { name: 'Write 2 documents' }).click();
    await drawer.getByText('2 written').waitFor();
    await expectStored(moving.store, 'gates/g-4', {
      name: 'West',
      'name 2': 'W',
      'size;cm': 7,
    });
    await page.context().close();
  });

  it('is itself again on every page when the store is back', async () => {
    windows.expectFaults(/ERR_CONNECTION_REFUSED|ERR_CONNECTION_RESET|ERR_EMPTY_RESPONSE|ERR_INCOMPLETE|^503 /);
    const paths: readonly [path: string, part: string][] = [
      ['query?from=balloons', '.cm-editor'],
      ['shapes/balloons?schema', '.cm-editor'],
      ['access/keys', 'tbody tr'],
      ['access/policy', '.cm-editor'],
      ['journal', '.cm-editor'],
      ['devices', 'tbody tr'],
      ['operations', 'svg, canvas'],
      ['data/balloons/bl-1', '.cm-editor'],
    ];
    // The parts of each page are loaded before the store goes away.
    const pages = await Promise.all(
      paths.map(async ([path, part]) => {
        const page = await open(path);
        await page.locator('main, .ant-drawer').locator(part).first().waitFor();
        return page;
      }),
    );
    const [query, shapes, keys] = pages;
    await query!.getByText('Time', { exact: true }).waitFor();
    await moving.service.service.close();
    await Promise.all(pages.map((page) => page.getByText('Not connected').waitFor()));
    await query!.getByLabel('order', { exact: true }).fill('altitude');
    await query!.keyboard.press('Enter');
    await shapes!.getByRole('button', { name: 'Refresh' }).click();
    await keys!.getByRole('tab', { name: 'Accounts' }).click();
    await keys!.getByRole('tab', { name: 'Keys' }).click();
    for (const page of [query!, shapes!, keys!]) await page.getByText('The store does not respond.').first().waitFor();
    await moving.service.restart();
    for (const page of pages) {
      await page.getByText('Connected', { exact: true }).waitFor();
      await page.getByText('The store does not respond.').first().waitFor({ state: 'detached' });
      expect(await page.locator('main').innerText()).not.to.match(/Error\b/);
    }
    await query!.getByText('Time', { exact: true }).waitFor();
    await shapes!.getByRole('region', { name: 'Fields' }).waitFor();
    await Promise.all(pages.map((page) => page.context().close()));
  });

  it('keeps notices off the state of the connection and the button to sign out', async () => {
    const page = await open('data/balloons');
    for (let n = 0; n < 3; n++) {
      await page.locator('[data-row="bl-1"] [data-field="altitude"]').dblclick();
      await page.keyboard.type(String(500 + n));
      await page.keyboard.press('Enter');
      await notice(page, `${500 + n}`)
        .first()
        .waitFor();
    }
    const covered = await page.evaluate(() =>
      [...document.querySelectorAll('nav footer *')].some((element) => {
        const { left, top, width, height } = element.getBoundingClientRect();
        return Boolean(document.elementFromPoint(left + width / 2, top + height / 2)?.closest('.ant-notification'));
      }),
    );
    expect(covered).to.equal(false);
    await page.context().close();
  });
});
