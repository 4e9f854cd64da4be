import { expect } from 'chai';
import { spawn, type ChildProcess } from 'node:child_process';
import { chromium, type BrowserContextOptions, type Page } from 'playwright-core';
import { connect, type Store } from '@uproar/client';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import { CHROMIUM } from '../../../test/chromium.js';
import { StreamReader } from '../../../test/event-stream.js';
import { KEY, TestService, until } from '../../../test/service.js';
import { keepMoving, TYPING_MS } from './movement.js';
import { expectStored } from './stored.js';
import { Windows, writeInto } from './windows.js';

const MAIN = new URL('../../cli/dist/bundled/main.js', import.meta.url).pathname;
describe('the console in a browser', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  let service: TestService;
  let store: Store;

  before(async () => {
    service = await TestService.start({ consoleDirectory: CONSOLE_DIRECTORY });
    store = service.client();
  });
  let endMovement: (() => Promise<void>) | undefined;
  after(async () => {
    await endMovement?.();
    await service.stop();
  });

  const openPage = (path = '') => windows.open(`${service.url}/console/${path}`);
  const signedIn = (path = '', options: BrowserContextOptions = {}) => windows.signIn(service.url, path, KEY, options);
  const cell = (page: Page, id: string, field: string) => page.locator(`[data-row="${id}"] [data-field="${field}"]`);

  /** Begins to note which cells light up; what it returns gives their fields. */
  const noteAnimations = async (page: Page) => {
    await page.evaluate(() => {
      const noted: (string | undefined)[] = [];
      const animate = Element.prototype.animate;
      Element.prototype.animate = function (this: HTMLElement, ...given) {
        if (this.dataset.field !== undefined) noted.push(this.dataset.field);
        return animate.apply(this, given);
      };
      Object.assign(window, { noted });
    });
    return () => page.evaluate(() => (window as unknown as { noted: string[] }).noted);
  };

  it('asks for the key, says when it is wrong, and keeps it out of the address', async () => {
    const page = await openPage();
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByRole('alert').getByText('Enter the key').waitFor();
    await page.getByLabel('Key').fill('wrong-key-0123456789');
    await page.keyboard.press('Enter');
    await page.getByRole('alert').getByText('does not accept this key').waitFor();
    await page.getByLabel('Key').fill(KEY);
    await page.keyboard.press('Enter');
    await page.getByText('Connected', { exact: true }).waitFor();
    expect(page.url()).not.to.include(KEY);
    await page.reload();
    await page.getByText('Connected', { exact: true }).waitFor();
    await page.getByRole('button', { name: 'Sign out' }).click();
    await page.getByLabel('Key').waitFor();
    await page.context().close();
    const linked = await signedIn();
    expect(linked.url()).not.to.include(KEY);
    await linked.context().close();
  });

  it('explains the first steps while the store is empty, and shows the first collection as it comes', async () => {
    const page = await signedIn();
    await page.getByText('Nothing is in this store yet').waitFor();
    expect(await page.locator('pre').first().textContent()).to.include(service.url);
    await store.collection('balloons').put('bl-1', { name: 'Amber', altitude: 1 });
    await cell(page, 'bl-1', 'name').getByText('Amber').waitFor();
    await page.context().close();
    // From here on the store is in use.
    endMovement = keepMoving(store, ['history']);
  });

  it('keeps the text on the page Query, however much happens in the store', async () => {
    const page = await signedIn('query');
    const condition = page.getByLabel('where', { exact: true });
    await condition.click();
    await page.keyboard.type("altitude > 0 AND name = 'Amber'", { delay: TYPING_MS });
    const fields: [string, string][] = [
      ['fields', 'name,altitude'],
      ['order', '-altitude'],
      ['limit', '25'],
    ];
    for (const [label, text] of fields) {
      const field = page.getByLabel(label, { exact: true });
      await field.click();
      await field.press('Control+A');
      await page.keyboard.type(text, { delay: TYPING_MS });
    }
    expect(await condition.textContent()).to.equal("altitude > 0 AND name = 'Amber'");
    for (const [label, text] of fields)
      expect(await page.getByLabel(label, { exact: true }).inputValue()).to.equal(text);
    await page.keyboard.press('Enter');
    await page.getByText('1 documents', { exact: true }).waitFor();
    expect(page.url()).to.include('limit=25');
    await store.collection('balloons').merge('bl-1', { altitude: 7 });
    await cell(page, 'bl-1', 'altitude').getByText('7', { exact: true }).waitFor();
    expect(await condition.textContent(), 'and after a change of the result').to.include('Amber');
    await store.collection('balloons').merge('bl-1', { altitude: 1 });
    await page.context().close();
  });

  it('shows rows as they come, change and go, and lights changed cells up', async () => {
    const page = await signedIn('data/balloons', { reducedMotion: 'no-preference' });
    await cell(page, 'bl-1', 'altitude').getByText('1', { exact: true }).waitFor();
    const lit = await noteAnimations(page);
    await store.collection('balloons').merge('bl-1', { altitude: 420 });
    await cell(page, 'bl-1', 'altitude').getByText('420').waitFor();
    expect(await lit()).to.deep.equal(['altitude']);
    await store.collection('balloons').put('bl-2', { name: 'Coral', wind: { speed: 3 } });
    await cell(page, 'bl-2', 'wind').getByText('{speed:3}').waitFor();
    await page.getByRole('link', { name: 'balloons' }).getByText('2', { exact: true }).waitFor();
    await store.collection('balloons').delete('bl-2');
    await page.locator('[data-row="bl-2"]').waitFor({ state: 'detached' });
    await page.context().close();

    const still = await signedIn('data/balloons', { reducedMotion: 'reduce' });
    await cell(still, 'bl-1', 'altitude').getByText('420').waitFor();
    const litThere = await noteAnimations(still);
    await store.collection('balloons').merge('bl-1', { altitude: 1 });
    await cell(still, 'bl-1', 'altitude').getByText('1', { exact: true }).waitFor();
    expect(await litThere(), 'with reduced motion').to.deep.equal([]);
    await still.context().close();
  });

  it('asks queries that stay live, can be shared as an address, and says where one is wrong', async () => {
    for (let n = 0; n < 150; n++)
      await store.collection('fleet').put(`f-${n}`, { altitude: n, status: n % 2 ? 'aloft' : 'packed' });
    const page = await signedIn('data/fleet');
    await writeInto(page, 'where', "status = 'aloft' AND altitude > 143");
    await page.getByLabel('order').fill('-altitude');
    await page.getByRole('button', { name: 'Run' }).click();
    await page.getByText('3 documents').waitFor();
    expect(
      await page.locator('[data-row]').evaluateAll((rows) => rows.map((row) => (row as HTMLElement).dataset.row)),
    ).to.deep.equal(['f-149', 'f-147', 'f-145']);
    await page.getByText("uproar index create fleet 'status,-altitude'").waitFor();
    await store.collection('fleet').merge('f-147', { altitude: 1 });
    await page.getByText('2 documents').waitFor();
    await store.collection('fleet').merge('f-0', { altitude: 200, status: 'aloft' });
    await page.locator('[data-row]').first().getByText('f-0').waitFor();
    const shared = new URL(page.url());
    expect(shared.searchParams.get('where')).to.equal("status = 'aloft' AND altitude > 143");
    await page.reload();
    await page.getByText('3 documents').waitFor();
    await writeInto(page, 'where', 'altitude >< 3');
    await page.keyboard.press('Enter');
    await page.getByRole('alert').getByText('is not expected here').waitFor();
    expect(await page.getByRole('alert').locator('pre').textContent()).to.equal('altitude >< 3\n          ▲');
    await page.getByRole('button', { name: 'Clear' }).click();
    await page.getByText('150 documents').waitFor();
    await page.context().close();
  });

  it("is not needed: a browser's own EventSource keeps a correct copy", async () => {
    const page = await openPage();
    await page.context().setExtraHTTPHeaders({ authorization: `Bearer ${KEY}` });
    await store.collection('bare').put('a', { n: 1 });
    const heard = page.evaluate(
      (url) =>
        new Promise<unknown>((resolve) => {
          const state: Record<string, { data: Record<string, unknown> }> = {};
          const source = new EventSource(url);
          source.addEventListener('result', ({ data }) => {
            for (const document of (
              JSON.parse(data as string) as { documents: { id: string; data: Record<string, unknown> }[] }
            ).documents)
              state[document.id] = document;
          });
          source.addEventListener('change', ({ data }) => {
            for (const { op, path, value } of (
              JSON.parse(data as string) as { patch: { op: string; path: string; value: never }[] }
            ).patch) {
              const [, id, , field] = path.split('/');
              if (op === 'remove') delete state[id!];
              else if (field === undefined) state[id!] = value;
              else state[id!]!.data[field] = value;
            }
            if (Object.keys(state).length !== 2) return;
            source.close();
            resolve(state);
          });
        }),
      `${service.url}/v1/data/bare?where=${encodeURIComponent('n > 0')}&limit=none`,
    );
    await new Promise((resolve) => setTimeout(resolve, 500));
    await store.collection('bare').put('b', { n: 2, text: 'long enough to be worth a patch of its own' });
    const state = (await heard) as Record<string, unknown>;
    expect(Object.keys(state)).to.deep.equal(['a', 'b']);
    await page.context().close();
  });

  it('edits a document, and reports when someone else was faster', async () => {
    const page = await signedIn('data/balloons');
    await page.locator('[data-row="bl-1"] [data-cell="id"]').click();
    await page.getByLabel('Data of the document as JSON').waitFor();
    expect(page.url()).to.match(/\/console\/data\/balloons\/bl-1$/);
    const write = (text: string) => writeInto(page, 'Data of the document as JSON', text);
    await write('{"name": "Amber", "altitude": }');
    await page.getByText('The text is not JSON').waitFor();
    expect(await page.getByRole('button', { name: 'Save', exact: true }).isDisabled()).to.equal(true);
    await write('{"name": "Amber Heron", "altitude": 5}');
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await page.getByText('Up to date').waitFor();
    await expectStored(store, 'balloons/bl-1', { name: 'Amber Heron', altitude: 5 });

    await write('{"name": "Mine"}');
    await store.collection('balloons').put('bl-1', { name: 'Theirs' });
    await page.getByText(/was saved while you edited/).waitFor();
    expect(await page.getByRole('button', { name: 'Save', exact: true }).isDisabled()).to.equal(true);
    await page.getByRole('button', { name: 'Take theirs' }).click();
    await page.getByLabel('Data of the document as JSON').getByText('Theirs').waitFor();
    await page.keyboard.press('Escape');
    await page.context().close();
  });

  it('shows when a document expires, moves its end and takes it off', async () => {
    const passing = store.collection('passing');
    await passing.put('p-1', { text: 'Fog until nine' });
    const page = await signedIn('data/passing/p-1');
    const bookkeeping = page.locator('dl').filter({ hasText: 'expires' });
    await bookkeeping.getByText('never').waitFor();
    await page.getByRole('button', { name: 'Change when the document expires' }).click();
    await page.getByLabel('The store deletes the document at').fill('2999-01-01T12:30');
    await page.getByRole('button', { name: 'Set', exact: true }).click();
    await bookkeeping.getByText('2999').waitFor();
    await until('it is stored', async () => (await passing.get('p-1'))?.expires?.startsWith('2999-01-01') === true);
    await page.getByRole('button', { name: 'Change when the document expires' }).click();
    await page.getByRole('button', { name: 'Never' }).click();
    await bookkeeping.getByText('never').waitFor();
    await until('its end is off', async () => (await passing.get('p-1'))?.expires === undefined);
    await passing.merge('p-1', {}, { ttl: 0.2 });
    await until('it has ended', async () => (await passing.get('p-1')) === undefined);
    await page.context().close();
  });

  it('shows the history of a document live, and restores a state', async () => {
    const pads = store.collection('history');
    await pads.put('p-1', { name: 'Meadow', claimedBy: null, size: { width: 20 } });
    await pads.merge('p-1', { claimedBy: 'c-4', size: { width: 25 } });
    const page = await signedIn('data/history/p-1');
    await page.getByText('History', { exact: true }).click();
    const entries = page.getByRole('list', { name: 'Changes of p-1, newest first' }).getByRole('listitem');
    await entries.nth(1).waitFor();
    expect(await entries.nth(0).innerText())
      .to.include('updated')
      .and.include('size.width')
      .and.include('current');
    expect((await entries.nth(0).innerText()).replace(/\s+/g, ' ')).to.include('claimedBy null → c-4');
    expect(await entries.nth(1).innerText())
      .to.include('created')
      .and.include('Meadow');
    await pads.merge('p-1', { name: 'Hill' });
    await page.waitForFunction(() => document.querySelectorAll('ol li').length === 3);
    await entries.nth(2).getByRole('button', { name: 'Restore' }).click();
    await page.getByRole('tooltip').getByRole('button', { name: 'Restore' }).click();
    await page.getByText(/^Restored p-1 to seq/).waitFor();
    await page.getByRole('tooltip').waitFor({ state: 'hidden' });
    expect((await pads.get('p-1'))!.data).to.deep.equal({ name: 'Meadow', claimedBy: null, size: { width: 20 } });
    await pads.delete('p-1');
    await page.waitForFunction(() => document.querySelector('ol li')?.textContent?.includes('deleted'));
    await entries.nth(1).getByRole('button', { name: 'Restore' }).click();
    await page.getByRole('tooltip').getByRole('button', { name: 'Restore' }).click();
    await until('it is back', async () => (await pads.get('p-1')) !== undefined);
    await page.context().close();
  });

  it('creates a document, and deletes one with undo', async () => {
    const page = await signedIn('data/balloons');
    await page.getByRole('button', { name: 'New document' }).click();
    await page.getByLabel('Collection', { exact: true }).fill('Bad Name');
    await page.getByText('A lower-case letter').waitFor();
    await page.getByLabel('Collection', { exact: true }).fill('notes');
    await page.getByLabel('Id', { exact: true }).fill('first');
    await writeInto(page, 'Data of the document as JSON', '{"text": "hello"}');
    await page.getByRole('button', { name: 'Create' }).click();
    await page.waitForURL(/\/data\/notes\/first$/);
    await expectStored(store, 'notes/first', { text: 'hello' });
    await page.getByRole('button', { name: 'Delete' }).click();
    expect(await store.collection('notes').get('first'), 'it asks first').not.to.equal(undefined);
    await page.locator('.ant-popover').getByRole('button', { name: 'Delete' }).click();
    await until('it is deleted', async () => (await store.collection('notes').get('first')) === undefined);
    await page.getByRole('button', { name: 'Undo' }).click();
    await until('it is back', async () => (await store.collection('notes').get('first'))?.data.text === 'hello');
    await page.context().close();
  });

  it('shows the true state of the connection, and catches up by itself', async () => {
    const page = await signedIn('data/balloons');
    await page.locator('[data-row="bl-1"]').waitFor();
    await service.service.close();
    await page.getByText('Not connected').waitFor();
    await page.getByText('not up to date').waitFor();
    await service.restart();
    await page.getByText('Connected', { exact: true }).waitFor({ timeout: 120_000 });
    await store.ready();
    await store.collection('balloons').put('bl-9', { name: 'Later' });
    await cell(page, 'bl-9', 'name').getByText('Later').waitFor();
    await page.context().close();
  });

  it('opens at any address, and has the rows of a good one when it is drawn', async () => {
    const broken = await signedIn('data/Early!?where=%27');
    await broken.getByText('Connected', { exact: true }).waitFor();
    await broken.context().close();
    await store.collection('early').put('e-1', { n: 1 });
    const page = await signedIn('data/early?where=n%20%3D%201&order=n');
    await cell(page, 'e-1', 'n').waitFor();
    await page.context().close();
  });

  it('scrolls through many documents without drawing them all', async () => {
    for (let part = 0; part < 10; part++) {
      const writes = Array.from({ length: 500 }, (_, n) => ({
        put: `many/m-${String(part * 500 + n).padStart(5, '0')}`,
        data: { n: part * 500 + n },
      }));
      await store.commit({ writes });
    }
    const page = await signedIn('data/many');
    await page.getByText('5,000 documents').waitFor();
    expect(await page.locator('[data-row]').count()).to.be.below(80);
    await page.getByRole('grid').evaluate((element) => element.scrollTo(0, element.scrollHeight));
    await cell(page, 'm-04999', 'n').getByText('4999').waitFor();
    await page.context().close();
  });

  it('can be used on a phone, and by the keyboard', async () => {
    const page = await signedIn('data/balloons', { viewport: { width: 390, height: 800 } });
    await page.locator('[data-row="bl-1"]').waitFor();
    expect(await page.evaluate(() => document.documentElement.scrollWidth)).to.be.at.most(390);
    await page.locator('[data-row="bl-1"] [data-cell="id"]').focus();
    await page.keyboard.press('ArrowDown');
    await page.keyboard.press('Enter');
    await page.getByLabel('Data of the document as JSON').waitFor();
    expect(page.url()).to.include('/balloons/bl-9');
    await page.context().close();
  });

  it('is served so that no foreign script runs in it', async () => {
    const { headers, text } = await service.request('GET', '/console/', undefined, { authorization: '' });
    expect(headers.get('content-security-policy'))
      .to.include("script-src 'self'")
      .and.include("frame-ancestors 'none'");
    expect(text).to.include('<div id="app">');
    expect(
      (await service.request('GET', '/console/../../package.json', undefined, { authorization: '' })).status,
    ).to.equal(401);
    expect(
      (await service.request('GET', '/console/assets/..%2f..%2fpackage.json', undefined, { authorization: '' })).status,
    ).to.be.oneOf([400, 403, 404]);
  });
});

describe('the demo: two screens side by side', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(150_000);
  let demo: ChildProcess;
  let said = '';
  let url: string;
  const key = 'demo-key-0123456789';

  before(async () => {
    demo = spawn(process.execPath, [MAIN, 'demo', '--port', '0'], {
      env: { ...process.env, UPROAR_ADMIN_KEY: key, NODE_OPTIONS: '', NO_COLOR: '1' },
      stdio: ['ignore', 'pipe', 'inherit'],
    });
    demo.stdout!.on('data', (text) => (said += String(text)));
    await until('the festival is on', () => said.includes('Ctrl-C'), 120_000);
    url = /http:\/\/[\d.:]+/.exec(said)![0];
  });
  after(async () => {
    const ended = new Promise((resolve) => demo.once('exit', resolve));
    demo.kill('SIGINT');
    expect(await ended).to.equal(0);
  });

  it('a change made by each is seen by all: plain HTTP, the command line and the console', async () => {
    const browser = await chromium.launch(CHROMIUM);
    const environment = { ...process.env, UPROAR_URL: url, UPROAR_KEY: key, NO_COLOR: '1', NODE_OPTIONS: '' };
    const curl = spawn('curl', [
      '-sN',
      '-H',
      `Authorization: Bearer ${key}`,
      '-H',
      'Accept: text/event-stream',
      `${url}/v1/data/notices`,
    ]);
    const watch = spawn(process.execPath, [MAIN, 'watch', 'notices'], { env: environment });
    try {
      let streamed = '';
      let printed = '';
      curl.stdout.on('data', (text) => (streamed += String(text)));
      watch.stdout.on('data', (text) => (printed += String(text)));
      const page = await browser.newPage();
      await page.goto(/http\S+#key=\S+/.exec(said)![0]);
      await page.getByRole('link', { name: 'notices' }).click();
      await page.getByText('live', { exact: true }).waitFor();
      await until('all are watching', () => streamed.includes('event: result') && printed.includes('changes follow'));

      const seenByAll = async (title: string) => {
        await until(`curl sees ${title}`, () => streamed.includes(title));
        await until(`the command line sees ${title}`, () => printed.includes(title));
        await page.locator(`[data-row="n-001"] [data-field="title"]`).getByText(title).waitFor();
      };
      const put = spawn('curl', [
        '-s',
        '-X',
        'PATCH',
        '-H',
        `Authorization: Bearer ${key}`,
        '-H',
        'Content-Type: application/merge-patch+json',
        '-d',
        '{"title":"by curl"}',
        `${url}/v1/data/notices/n-001`,
      ]);
      await new Promise((resolve) => put.on('close', resolve));
      await seenByAll('by curl');
      const merge = spawn(process.execPath, [MAIN, 'merge', 'notices/n-001', '{"title":"by command"}'], {
        env: environment,
      });
      await new Promise((resolve) => merge.on('close', resolve));
      await seenByAll('by command');
      await page.locator('[data-row="n-001"] [data-cell="id"]').click();
      await page.getByLabel('Data of the document as JSON').click();
      await page.keyboard.press('Control+A');
      await page.keyboard.insertText('{"title": "by console"}');
      await page.getByRole('button', { name: 'Save', exact: true }).click();
      await seenByAll('by console');
    } finally {
      curl.kill();
      watch.kill();
      await browser.close();
    }
  });

  it('brings at least six collections and 2,000 documents, and devices that keep them lively', async () => {
    const store = connect(url, { token: key });
    const { documents } = await store.fetch<{ documents: { data: { documents: number } }[] }>('/v1/collections');
    expect(documents.length).to.be.at.least(6);
    expect(documents.reduce((sum, { data }) => sum + data.documents, 0)).to.be.at.least(2000);
    const watch = store.collection('balloons').watch();
    const altered = new Set<string>();
    watch.subscribe(({ changes, seq }) => seq > 0 && changes.forEach(({ id }) => altered.add(id)));
    await until(
      'balloons move',
      () => altered.size > 330 || watch.current.documents.filter(({ version }) => version > 20).length > 5,
      20_000,
    );
    store.close();
    const reader = await StreamReader.open(`${url}/v1/data/gates`).catch(() => undefined);
    reader?.close();
  });
});
