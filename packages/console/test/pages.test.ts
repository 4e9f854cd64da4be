import { expect } from 'chai';
import { spawn, type ChildProcess } from 'node:child_process';
import { gzipSync } from 'node:zlib';
import { connect, isProblem, type Store } from '@uproar/client';
import { drawBalloon } from '@uproar/demo';
import { findBarriers } from '../../../test/barriers.js';
import { MAIN } from '../../../test/command-run.js';
import { until } from '../../../test/service.js';
import { keepMoving } from './movement.js';
import { visit, Windows, writeInto } from './windows.js';

const KEY = 'demo-key-0123456789';
const FIRST_LOAD_BYTES = 500_000;
const PAGES = [
  'data/balloons',
  'query?from=balloons',
  'shapes/flights',
  'shapes/notices?schema',
  'data/files/picture-bl-1',
  'query?from=balloons&summary=count()&by=status',
  'query?from=balloons&summary=count()&by=status&show=chart',
  'data/balloons?show=map&colour=status&base=areas',
  'data/balloons?show=chart',
  'data/balloons?show=cards',
  'data/balloons?at=now',
  'data/balloons?edit=many',
  'boards/tower',
  'compare?a=balloons/bl-1&b=balloons/bl-2',
  'compare?kind=results',
  'start',
  'journal',
  'devices',
  'access/policy',
  'access/keys',
  'access/accounts',
  'access/audit',
  'operations',
  'api/http?open=get-/v1/data/{collection}',
];

/** Pages that together show nearly every component. Contrast, which takes long, is checked on these, in both colours. */
const CONTRAST_PAGES = new Set([
  'data/balloons',
  'query?from=balloons&summary=count()&by=status',
  'access/policy',
  'boards/tower',
  'data/balloons?show=cards',
  'compare?a=balloons/bl-1&b=balloons/bl-2',
  'start',
  'operations',
]);

describe('the pages of the console, over the demo', function () {
  // Typing at a person’s speed, in a browser that shares two cores with other tests.
  this.timeout(240_000);
  const windows = new Windows();
  let demo: ChildProcess;
  let url: string;
  let store: Store;
  let endMovement: () => Promise<void>;

  before(async () => {
    let said = '';
    demo = spawn(process.execPath, [MAIN, 'demo', '--port', '0'], {
      env: { ...process.env, UPROAR_ADMIN_KEY: KEY, NODE_OPTIONS: '', NO_COLOR: '1' },
      stdio: ['ignore', 'pipe', 'inherit'],
    });
    demo.stdout!.on('data', (text) => (said += String(text)));
    await until('the festival is on', () => said.includes('Ctrl-C'), 120_000);
    url = /http:\/\/[\d.:]+/.exec(said)![0];
    store = connect(url, { token: KEY });
    endMovement = keepMoving(store);
  });
  after(async () => {
    await endMovement();
    store.close();
    const ended = new Promise((resolve) => demo.once('exit', resolve));
    demo.kill('SIGINT');
    expect(await ended).to.equal(0);
  });
  const open = (path: string, options?: Parameters<Windows['signIn']>[3]) => windows.signIn(url, path, KEY, options);

  it('fit a phone without anything to scroll sideways, and are accessible in light and in dark colours', async () => {
    const phone = { width: 390, height: 800 };
    const page = await open('data/balloons', { colorScheme: 'light' });
    const found: string[] = [];
    await page.locator('[data-row]').first().waitFor();
    for (const path of PAGES) {
      await page.setViewportSize(phone);
      await visit(page, path);
      await page.waitForTimeout(300);
      const width = await page.evaluate(() => document.documentElement.scrollWidth);
      if (width > phone.width) found.push(`${path}: ${width} pixels wide on a phone`);
      await page.setViewportSize({ width: 1280, height: 800 });
      await page.waitForTimeout(200);
      found.push(...(await findBarriers(page, CONTRAST_PAGES.has(path))).map((one) => `${path}: ${one}`));
    }
    await page.goto(`${url}/console/data/balloons/bl-17`);
    await page.getByLabel('Data of the document as JSON').waitFor();
    for (const tab of ['Form', 'History', 'Readers']) {
      await page.locator('.ant-drawer').getByText(tab, { exact: true }).click();
      await page.waitForTimeout(700);
      found.push(...(await findBarriers(page, tab === 'Form')).map((one) => `the document, ${tab}: ${one}`));
    }
    await page.locator('.ant-drawer-close').click();
    await page.locator('[data-row="bl-10"] [data-field="altitude"]').dblclick();
    await page.keyboard.type('4x');
    await page.locator('[data-row="bl-100"] [data-field="name"]').dblclick();
    await page.getByRole('list', { name: 'Edits that are not saved' }).waitFor();
    found.push(...(await findBarriers(page, true)).map((one) => `edits of cells: ${one}`));
    await page.keyboard.press('Control+k');
    await page.getByRole('combobox', { name: 'Go to' }).waitFor();
    await page.waitForTimeout(400);
    found.push(...(await findBarriers(page)).map((one) => `what Ctrl+K opens: ${one}`));
    expect(found).to.deep.equal([]);
    await page.context().close();
  });

  it('load fewer than 500 kB of script and style at first, compressed', async () => {
    const page = await windows.open('about:blank');
    const loaded = new Map<string, number>();
    page.on('response', (response) => {
      void (async () => {
        if (response.url().includes('/console/assets/'))
          loaded.set(response.url(), gzipSync(await response.body()).length);
      })();
    });
    await page.goto(`${url}/console/data/balloons#key=${KEY}`);
    await page.locator('[data-row]').first().waitFor();
    // The editor of conditions comes by itself, once the page is there.
    await page.getByLabel('where', { exact: true }).waitFor();
    await page.waitForTimeout(500);
    const total = [...loaded.values()].reduce((sum, size) => sum + size, 0);
    expect(total).to.be.above(50_000).and.below(FIRST_LOAD_BYTES);
    await page.context().close();
  });

  it('show the changes of another window', async () => {
    const [left, right] = [await open('data/pads/p-10'), await open('journal?doc=pads/p-10')];
    await left.locator('.ant-drawer').getByText('Form', { exact: true }).click();
    await left.getByRole('textbox', { name: 'name', exact: true }).fill('Two windows');
    await left.getByRole('button', { name: 'Save', exact: true }).click();
    const change = right.getByRole('option').filter({ hasText: 'name "Two windows"' });
    await change.waitFor();
    await change.click();
    const row = right.getByRole('region', { name: 'Before and after' }).locator('tbody tr').first();
    expect(await row.innerText()).to.match(/name\s+"[^"]+"\s+"Two windows"/);
    await right.getByRole('link', { name: 'pads/p-10' }).click();
    await right.waitForURL(/data\/pads\/p-10/);
    await right.getByLabel('Data of the document as JSON').getByText('Two windows').waitFor();
    await right.keyboard.press('Escape');
    await right.locator('[data-row="p-10"] [data-field="name"]').dblclick();
    await right.keyboard.type('And back');
    await right.keyboard.press('Enter');
    await until(
      'the other has it',
      async () => (await left.getByRole('textbox', { name: 'name', exact: true }).inputValue()) === 'And back',
    );
    await left.context().close();
    await right.context().close();
  });

  it('let a query be written, seen live, explained, and copied for elsewhere', async () => {
    const page = await open('query?from=flights', { permissions: ['clipboard-read', 'clipboard-write'] });
    await writeInto(page, 'where', "day = 3 AND start LIKE 'p-1%'");
    await page.getByLabel('order').fill('-maxAltitude');
    await page.keyboard.press('Enter');
    await page.getByText('every document of the collection (full scan)').waitFor();
    await page.getByRole('button', { name: 'Create index' }).click();
    await page.getByText(/the index day,-maxAltitude|the index day/).waitFor();
    // The picture shows what was read before, and what is read now.
    await page.getByRole('listitem').filter({ hasText: 'read before' }).waitFor();
    const count = Number(/(\d+) documents/.exec(await page.locator('main header').innerText())![1]);
    await store.collection('flights').put('f-new', { day: 3, start: 'p-11', maxAltitude: 9999 });
    await page.locator('[data-row="f-new"]').waitFor();
    expect(await page.locator('main header').innerText()).to.include(`${count + 1} documents`);
    const copied = async (name: string) => {
      await page.getByRole('button', { name: 'Copy as…' }).click();
      await page.getByRole('menuitem', { name, exact: true }).click();
      return page.evaluate(() => navigator.clipboard.readText());
    };
    const address = await copied('Address');
    const answer = (await (await fetch(address, { headers: { authorization: `Bearer ${KEY}` } })).json()) as {
      documents: { id: string }[];
    };
    expect(answer.documents[0]!.id).to.equal('f-new');
    const run = (line: string) =>
      new Promise<string>((resolve) => {
        let out = '';
        const shell = spawn('bash', ['-c', line.replace(/^uproar/, `'${process.execPath}' '${MAIN}'`)], {
          env: { ...process.env, UPROAR_URL: url, UPROAR_KEY: KEY, NODE_OPTIONS: '' },
        });
        shell.stdout.on('data', (text) => (out += String(text)));
        shell.on('close', () => resolve(out));
      });
    expect(await run(`${await copied('curl, once')} -s`)).to.include('"f-new"');
    expect(await run(await copied('uproar, once'))).to.include('f-new');
    expect(await copied('TypeScript'))
      .to.include("store.collection('flights').watch({")
      .and.include(`order: "-maxAltitude"`);

    await writeInto(page, 'where', 'day = = 3');
    await page.keyboard.press('Control+Enter');
    await page.getByRole('alert').locator('pre').waitFor();
    expect(await page.getByRole('alert').locator('pre').textContent()).to.equal('day = = 3\n      ▲');
    await page.context().close();
  });

  it('show related documents, and totals instead of documents, live', async () => {
    await store.commit({
      writes: [
        { put: 'hulls/h-1', data: { team: 't-1', size: 4 } },
        { put: 'hulls/h-2', data: { team: 't-2', size: 6 } },
        { put: 'teams/t-1', data: { name: 'Hollow' } },
      ],
    });
    const page = await open('query?from=hulls');
    await page.getByLabel('include').fill('team = teams via team');
    await page.keyboard.press('Enter');
    const cell = page.locator('[data-row="h-1"] [data-cell="\\"→ team\\""]');
    await cell.getByRole('button', { name: 'Show the members' }).click();
    const name = page.locator('[data-row="h-1"] [data-cell="\\"→ team\\".name"]');
    await name.getByText('Hollow').waitFor();
    await store.collection('teams').merge('t-1', { name: 'Nook' });
    await name.getByText('Nook').waitFor();
    await page.getByText('teams, by ids').waitFor();
    await page.getByLabel('include').fill('teams vi team');
    await page.keyboard.press('Enter');
    expect(await page.getByRole('alert').locator('pre').textContent()).to.equal('teams vi team\n      ▲');

    await page.getByLabel('summary').fill('count(),sum(size)');
    expect(await page.getByLabel('order').isDisabled()).to.equal(true);
    await page.getByLabel('by', { exact: true }).fill('team');
    await page.keyboard.press('Enter');
    await page.getByText('2 groups').waitFor();
    await store.collection('hulls').put('h-3', { team: 't-2', size: 10 });
    await page.getByRole('gridcell', { name: '16' }).waitFor();
    expect(await page.getByRole('columnheader', { name: 'id', exact: true }).count()).to.equal(0);
    await page.context().close();
  });

  it('hold a collection to a schema: proposed, checked, set', async () => {
    await store.commit({
      writes: Array.from({ length: 30 }, (_, n) => ({ put: `marks/m-${n}`, data: { n, kind: n % 2 ? 'a' : 'b' } })),
    });
    const page = await open('shapes/marks?schema');
    await page.getByText('proposed, not set').waitFor();
    await page.getByRole('button', { name: 'Check all documents' }).click();
    await page.getByText('All 30 documents fit.').waitFor();
    await writeInto(page, 'The schema as JSON', '{"properties":{"n":{"maximum":27}}}');
    await page.getByRole('button', { name: 'Check all documents' }).click();
    await page.getByText('2 of 30 documents do not fit.').waitFor();
    await page.getByRole('link', { name: 'm-28' }).waitFor();
    await store.commit({ writes: [{ delete: 'marks/m-28' }, { delete: 'marks/m-29' }] });
    await page.getByLabel('What to do with writes that violate the schema').selectOption('enforce: refuse violations');
    await page.getByRole('button', { name: 'Set', exact: true }).click();
    await page.getByText('version 1, enforce').waitFor();
    const refused = await store
      .collection('marks')
      .put('m-99', { n: 99 })
      .catch((error: unknown) => error);
    expect(isProblem(refused, 'schema-violation')).to.equal(true);
    await page.context().close();
  });

  it('take files as they are, and show pictures of them', async () => {
    await store.files.upload(new Blob(['first'], { type: 'text/html' }), { id: 'page', name: 'page.html' });
    const page = await open('data/files');
    const choosing = page.waitForEvent('filechooser');
    await page.getByRole('button', { name: 'Upload' }).click();
    const picture = drawBalloon({ colours: ['teal', 'amber'], panels: 12 });
    await (await choosing).setFiles({ name: 'balloon.png', mimeType: 'image/png', buffer: picture });
    await page.getByText('The file is uploaded').waitFor();
    await page.getByRole('gridcell', { name: 'balloon.png' }).waitFor();
    const [file] = (await store.collection('files').where`name = ${'balloon.png'}`.list()).documents;
    await page.locator(`[data-row="${file!.id}"] [data-cell="id"]`).click();
    const shown = page.getByRole('img', { name: `The content of ${file!.id}` });
    await shown.waitFor();
    await until('it is drawn', () =>
      shown.evaluate((image) => (image as unknown as { naturalWidth: number }).naturalWidth === 200),
    );
    const downloading = page.waitForEvent('download');
    await page.getByRole('link', { name: 'Download' }).click();
    expect((await downloading).suggestedFilename()).to.equal('balloon.png');
    // What could be active is offered for download only.
    await page.goto(`${url}/console/data/files/page`);
    await page.getByRole('link', { name: 'Download' }).waitFor();
    expect(await page.getByRole('img', { name: /The content of/ }).count()).to.equal(0);
    await page.context().close();
  });

  it('lead from a device to its identity, its writes and back, and shut it out', async () => {
    const admin = { authorization: `Bearer ${KEY}`, 'content-type': 'application/json' };
    const body = JSON.stringify({ name: 'mast', scope: 'write' });
    const made = await fetch(`${url}/v1/keys`, { method: 'POST', headers: admin, body });
    const { key } = (await made.json()) as { key: string };
    const mast = connect(url, { token: key, device: 'test-mast' });
    await mast.collection('gusts').put('w-1', { knots: 12 });
    // Many commits of others follow, as in a store that is in use.
    const others = store.collection('gusts');
    await Promise.all(Array.from({ length: 250 }, (_, knots) => others.put('w-2', { knots })));
    const page = await open('devices?search=test-mast');
    const about = page.getByRole('button', { name: 'About key:mast' });
    await about.click();
    await page.getByRole('menuitem', { name: 'May see everything: the policy does not apply to keys' }).waitFor();
    await page.getByRole('menuitem', { name: 'Its writes in the journal' }).click();
    await page.waitForURL(/journal\?identity=key:mast/);
    await page.getByText('Only changes by key:mast').waitFor();
    const changes = page.getByRole('listbox').getByRole('option');
    await until('only its write is listed', async () => (await changes.count()) === 1);
    await page
      .getByRole('region', { name: 'Before and after' })
      .getByRole('button', { name: 'About key:mast' })
      .click();
    await page.getByRole('menuitem', { name: 'Its connections' }).click();
    await page.getByText('test-mast').waitFor();
    await about.click();
    await page.getByRole('menuitem', { name: 'Revoke the key…' }).click();
    await page.getByRole('dialog').getByRole('button', { name: 'Revoke' }).click();
    await until('it is refused', () => mast.state.name === 'refused');
    await page.getByText('No matching connections').waitFor();
    mast.close();
    await page.context().close();
  });

  it('list connections, and close one', async () => {
    const truck = connect(url, { token: KEY, device: 'test-truck' });
    truck.collection('crews').watch({ where: "name = 'Unknown'" });
    await truck.ready();
    let offline = 0;
    truck.subscribe(({ name }) => (offline += name === 'offline' ? 1 : 0));
    const page = await open('devices?search=test-truck');
    const row = page.locator('tbody tr').filter({ hasText: 'test-truck' });
    await row.getByText('up to date').waitFor();
    expect(await row.innerText())
      .to.include('crews')
      .and.include("where name = 'Unknown'")
      .and.include('127.0.0.1');
    await row.getByRole('button', { name: 'Close test-truck' }).click();
    await page.getByRole('tooltip').getByRole('button', { name: 'Close' }).click();
    await until('it was cut off', () => offline > 0);
    await until('and came back', () => truck.state.name === 'online');
    truck.close();
    await page.getByText('No matching connections').waitFor();
    await page.context().close();
  });

  it('show the fields of a collection, and rare names', async () => {
    await store.collection('pads').put('p-odd', { nmae: 'misspelt', open: 'yes' });
    const page = await open('shapes/pads');
    const row = (name: string) => page.getByRole('region', { name: 'Fields' }).locator('tr').filter({ hasText: name });
    await row('nmae').getByText('did you mean name?').waitFor();
    expect(await row('open').first().innerText()).to.include('48 boolean, 1 text');
    await row('nmae').getByRole('link').click();
    await page.locator('[data-row="p-odd"]').waitFor();
    await store.collection('pads').delete('p-odd');
    await page.context().close();
  });

  it('plot what happens, and list slow queries and dear watches', async () => {
    await store.collection('balloons').list({ where: 'envelope.volume > 100 AND LENGTH(name) > 200' });
    const page = await open('operations');
    await page.getByText('Commits per second').waitFor();
    expect(await page.locator('canvas').count()).to.equal(8);
    const commits = page.locator('figure').filter({ hasText: 'Commits per second' }).locator('output').first();
    await until('it counts', async () => Number(await commits.textContent()) > 0, 120_000);
    const dear = page.getByRole('region', { name: 'Watches by cost' });
    await dear.locator('tr').filter({ hasText: 'balloons' }).first().waitFor();
    expect(await page.locator('.facts').innerText()).to.match(/Journal\n[\d,]+ commits/);
    await page.context().close();
  });

  it('describe every request, call and event, with what they take and answer', async () => {
    const page = await open('api');
    await page.getByLabel('Find', { exact: true }).fill('collection query');
    await page.getByRole('button', { name: 'GET /v1/data/{collection} Query or watch a collection' }).click();
    const opened = page.locator('article.open');
    await opened.getByText('Answer 200').waitFor();
    expect(await opened.locator('dt').allInnerTexts()).to.include('whereoptional');
    await opened.getByRole('button', { name: 'documents' }).click();
    await opened.getByText('The seq of the commit that last wrote the document').first().waitFor();
    await page.getByText('Live', { exact: true }).click();
    await page.getByLabel('Find', { exact: true }).fill('');
    await page.getByRole('button', { name: 'call commit' }).click();
    await page.locator('article.open').getByRole('button', { name: 'writes' }).click();
    await page.locator('article.open').getByText('ifVersion').first().waitFor();
    await page.context().close();
  });

  it('are found by name with the keyboard, and documents by their address', async () => {
    const page = await open('data/balloons');
    await page.locator('[data-row]').first().waitFor();
    const type = async (text: string) => {
      await page.keyboard.press('Control+k');
      await page.getByRole('combobox', { name: 'Go to' }).waitFor();
      await page.waitForFunction(() => document.activeElement?.getAttribute('role') === 'combobox');
      await page.keyboard.type(text);
      await page.keyboard.press('Enter');
    };
    await type('oper');
    await page.waitForURL(/operations/);
    await type('gates');
    await page.waitForURL(/data\/gates/);
    await type('pads/p-7');
    await page.waitForURL(/data\/pads\/p-7/);
    await page.getByLabel('Data of the document as JSON').waitFor();
    await page.keyboard.press('Escape');
    await type('dark col');
    await page.waitForFunction(() => document.documentElement.classList.contains('dark'));
    await type('new doc');
    await page.locator('.ant-drawer').getByText('New document').waitFor();
    await page.context().close();
  });

  it('say who may see a document, and refuse politely what a lesser key may not', async () => {
    const page = await open('data/balloons/bl-17');
    await page.locator('.ant-drawer').getByText('Readers', { exact: true }).click();
    const rows = page.locator('.ant-drawer tbody tr');
    await rows.filter({ hasText: 'dora (director)' }).waitFor();
    expect(await rows.filter({ hasText: 'dora' }).innerText()).to.match(/yes\s+yes\s+yes/);
    await page.getByLabel('Claims as JSON').fill('{"role": "director"}');
    await page.getByRole('button', { name: 'Add these claims' }).click();
    await rows.filter({ hasText: '{"role": "director"}' }).waitFor();
    await page.context().close();

    const made = await store.post<{ key: string }>('/v1/keys', { name: 'reader', scope: 'read' });
    const lesser = await windows.open('about:blank');
    const refused: string[] = [];
    lesser.on('response', (response) => response.status() === 403 && refused.push(response.url()));
    await lesser.goto(`${url}/console/data/balloons#key=${made.key}`);
    await lesser.locator('[data-row]').first().waitFor();
    await lesser.context().close();
  });
});
