import { expect } from 'chai';
import { readFileSync } from 'node:fs';
import { createServer, get } from 'node:http';
import { gzipSync } from 'node:zlib';
import { chromium, type Browser, type BrowserContext, type Page } from 'playwright-core';
import type * as Client from '@uproar/client';
import { CLIENT_FILE } from '@uproar/client/file';
import { drawBalloon, FIELD_DIRECTORY } from '@uproar/demo';
import { CHROMIUM } from '../../../test/chromium.js';
import { HostileLink } from '../../../test/hostile-link.js';
import { KEY, TestService, until } from '../../../test/service.js';

const isDrawn = (image: unknown) => (image as { naturalWidth: number }).naturalWidth === 200;

describe('the client in a browser', () => {
  let browser: Browser;
  let service: TestService;
  let link: HostileLink;
  let context: BrowserContext;
  before(async () => {
    service = await TestService.start({ clientFile: CLIENT_FILE, pages: { '/field/': FIELD_DIRECTORY } });
    await service
      .client()
      .collection('balloons')
      .put('bl-17', {
        name: 'White Goose',
        registration: 'FB-0117',
        pilot: { name: 'Venbel' },
        status: 'aloft',
        altitude: 300,
        fuel: 40,
      });
    browser = await chromium.launch(CHROMIUM);
  });
  after(async () => {
    await browser.close();
    await service.stop();
  });
  beforeEach(async () => {
    link = await HostileLink.start(service.url);
    context = await browser.newContext({ viewport: { width: 400, height: 800 } });
    context.setDefaultTimeout(120_000);
  });
  afterEach(async () => {
    await context.close();
    await link.stop();
  });

  const openPhone = async (): Promise<Page> => {
    const page = await context.newPage();
    await page.goto(`${link.url}/field/#key=${KEY}&balloon=bl-17`);
    await page.getByText('Connected').waitFor();
    await page.getByRole('heading', { name: 'White Goose' }).waitFor();
    return page;
  };
  const cut = () => {
    link.down = true;
    link.cutAll();
  };
  const balloon = async () => (await service.client().collection('balloons').get('bl-17'))!.data;

  /** An app of another origin: a page on another port. */
  const serveApp = async () => {
    const server = createServer((_request, response) =>
      response.setHeader('content-type', 'text/html').end('<!doctype html><title>an app</title>'),
    );
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const { port } = server.address() as { port: number };
    const close = () => {
      server.close();
      server.closeAllConnections();
    };
    return { origin: `http://127.0.0.1:${port}`, close };
  };

  it('is one file, small enough for a phone', () => {
    const bytes = gzipSync(readFileSync(CLIENT_FILE), { level: 9 }).length;
    expect(bytes, 'gzipped bytes').to.be.below(25_000);
  });

  it('explains to a page of another origin that it is not allowed, and how to allow it', async () => {
    const page = await context.newPage();
    const app = await serveApp();
    await page.goto(app.origin);
    const problem = await page.evaluate(async (url) => {
      const { connect } = (await import(`${url}/client/uproar.js`)) as typeof Client;
      const store = connect(url, { token: 'any-token' });
      return new Promise((resolve) => store.subscribe((state) => state.name === 'refused' && resolve(state.problem)));
    }, service.url);
    expect(problem).to.include({ type: '/problems/origin-refused', status: 403 });
    expect((problem as { detail: string }).detail).to.include(`--allow-origin ${app.origin}`);
    app.close();
  });

  it('says in the console of a page what to do when the store does not answer, or the page may not use it', async () => {
    const page = await context.newPage();
    const said: string[] = [];
    page.on('console', (message) => {
      if (message.text().startsWith('Uproar:')) said.push(message.text());
    });
    const app = await serveApp();
    await page.goto(app.origin);
    const connectTo = (url: string) =>
      page.evaluate(
        async ([file, address]) => {
          const { connect } = (await import(`${file}/client/uproar.js`)) as typeof Client;
          connect(address!, { token: 'any-token' });
        },
        [service.url, url],
      );
    await connectTo(service.url);
    await until('the origin is explained', () => said.length === 1, 20_000);
    expect(said[0]).to.include('Pages of this origin are not allowed').and.include(`--allow-origin ${app.origin}`);
    await connectTo('http://127.0.0.1:9');
    await until('the dead store is explained', () => said.length === 2, 20_000);
    expect(said[1]).to.include('No store answers at http://127.0.0.1:9').and.include('uproar doctor --url');
    await context.setOffline(true);
    await until('the missing network is explained', () => said.length === 3, 20_000);
    expect(said[2]).to.include('This device has no network.');
    await context.setOffline(false);
    app.close();
  });

  it('tells a store from a page that something else answers with', async () => {
    const page = await openPhone();
    await page.route('**/healthz', (route) => route.fulfill({ contentType: 'text/html', body: '<!doctype html>' }));
    const message = await page.evaluate(async (url) => {
      const { connect } = (await import(`${url}/client/uproar.js`)) as typeof Client;
      return connect(url, { token: 'any-token' })
        .fetch('/healthz')
        .catch((error: Error) => error.message);
    }, link.url);
    expect(message).to.equal(`${link.url} answers, but is not an Uproar store (HTTP status 200).`);
  });

  it('allows pages of this machine during the open period', async () => {
    const open = await TestService.start({ clientFile: CLIENT_FILE, openForMs: 60_000 });
    const page = await context.newPage();
    const app = await serveApp();
    await page.goto(app.origin);
    const state = await page.evaluate(async (url) => {
      const { connect } = (await import(`${url}/client/uproar.js`)) as typeof Client;
      const store = connect(url);
      await store.collection('notes').put('n-1', { n: 1 });
      return store.state.name;
    }, open.url);
    expect(state).to.equal('online');
    app.close();
    await open.stop();
  });

  it('is served to pages of any origin, and not sent again when it has not changed', async () => {
    const answer = await fetch(`${service.url}/client/uproar.js`);
    expect(answer.headers.get('content-type')).to.match(/^text\/javascript/);
    expect(answer.headers.get('access-control-allow-origin')).to.equal('*');
    const etag = answer.headers.get('etag')!;
    // A request as a browser's cache makes it: fetch would add "cache-control: no-cache" here.
    const status = await new Promise((resolve) =>
      get(`${service.url}/client/uproar.js`, { headers: { 'if-none-match': etag } }, (response) => {
        response.resume();
        resolve(response.statusCode);
      }),
    );
    expect(status).to.equal(304);
  });

  it('uploads files from a page with progress, and checks the connection', async () => {
    const page = await openPhone();
    // As text, since the page knows nothing of what compiles the tests.
    const result = await page.evaluate<{
      size: number;
      last: number;
      got: number;
      steps: { ok: boolean }[];
    }>(`(async () => {
      const { connect } = await import('${link.url}/client/uproar.js');
      const store = connect('${link.url}', { token: '${KEY}' });
      await store.ready();
      const shares = [];
      const content = new Blob([new Uint8Array(2000000)], { type: 'image/png' });
      const onProgress = (sent, all) => shares.push(sent / all);
      const { data } = await store.files.upload(content, { id: 'sent', onProgress });
      const answer = await fetch(await store.files.link('sent'));
      const steps = await store.check();
      store.close();
      return { size: data.size, last: shares.at(-1), got: (await answer.arrayBuffer()).byteLength, steps };
    })()`);
    expect(result).to.deep.include({ size: 2_000_000, last: 1, got: 2_000_000 });
    expect(result.steps.every(({ ok }) => ok)).to.equal(true);
  });

  it("carries a crew's phone through a valley: writes wait, show as pending, survive a reload, and arrive once", async () => {
    const page = await openPhone();
    expect(page.url(), 'the key does not stay in the address').not.to.include(KEY);
    await page.getByRole('button', { name: '−10' }).click();
    await until('it arrived', async () => (await balloon()).fuel === 30);
    // The service worker has the page, and the copy of the watched documents is kept.
    await page.evaluate(() => navigator.serviceWorker.ready);
    await page.waitForTimeout(1300);

    cut();
    await page.getByText('No connection').waitFor();
    await page.getByRole('button', { name: 'landed' }).click();
    await page.getByRole('button', { name: '−10' }).click();
    await page.getByRole('button', { name: '−10' }).click();
    await page.getByLabel('Tell the tower').fill('Down by the mill');
    await page.getByRole('button', { name: 'Send' }).click();
    await page.getByLabel('Picture …').setInputFiles({
      name: 'down.png',
      mimeType: 'image/png',
      buffer: drawBalloon({ colours: ['teal', 'amber'], panels: 12 }),
    });
    await page.getByText('No connection, 5 waiting').waitFor();
    expect(await page.locator('#fuel').textContent()).to.equal('10');
    expect(await page.locator('li.pending').textContent()).to.include('Down by the mill');
    expect(await balloon()).to.include({ status: 'aloft', fuel: 30 });

    await page.reload();
    await page.getByText('No connection, 5 waiting').waitFor();
    await page.getByText('as last heard').waitFor();
    await until('the picture is there', () => page.locator('#pictures img.pending').evaluate(isDrawn));
    expect(await page.getByRole('button', { name: 'landed' }).getAttribute('aria-pressed')).to.equal('true');
    expect(await page.locator('#fuel').textContent()).to.equal('10');
    await page.locator('li.pending').getByText('Down by the mill').waitFor();

    link.down = false;
    await page.getByText('Connected', { exact: true }).waitFor({ timeout: 120_000 });
    await until('all arrived', async () => (await balloon()).fuel === 10);
    expect(await balloon()).to.include({ status: 'landed', fuel: 10 });
    await page.waitForFunction(() => document.querySelectorAll('.pending').length === 0);
    await page.getByText('Connected', { exact: true }).waitFor();
    expect(await page.locator('#pictures img').evaluate(isDrawn)).to.equal(true);
    const files = (await service.client().collection('files').where`balloonId = 'bl-17'`.list()).documents;
    expect(files.map(({ data: { name, type } }) => [name, type])).to.deep.equal([['down.png', 'image/png']]);
    const { documents } = await service.client().collection('reports').list();
    expect(documents.map(({ data }) => data.text)).to.deep.equal(['Down by the mill']);
    await service.client().collection('balloons').merge('bl-17', { name: 'Grey Goose' });
    await page.getByRole('heading', { name: 'Grey Goose' }).waitFor();
    await service.client().collection('balloons').merge('bl-17', { name: 'White Goose' });
  });

  it('shares one outbox among tabs: both show the pending writes, one sends, even after the first is closed', async () => {
    await service.client().collection('balloons').merge('bl-17', { fuel: 50, status: 'aloft' });
    const [first, second] = [await openPhone(), await openPhone()];
    await Promise.all(
      [first, second].map((page) => page.waitForFunction(() => document.querySelector('#fuel')?.textContent === '50')),
    );
    cut();
    await Promise.all([first, second].map((page) => page.getByText('No connection').waitFor()));
    await first.getByRole('button', { name: '−10' }).click();
    await second.getByRole('button', { name: '−10' }).click();
    await second.getByRole('button', { name: '−10' }).click();
    for (const page of [first, second]) {
      await page.getByText('3 waiting').waitFor();
      await page.waitForFunction(() => document.querySelector('#fuel')?.textContent === '20');
    }
    // The first tab is the one that sends; the other takes that over.
    await first.close();
    link.down = false;
    await second.getByText('Connected', { exact: true }).waitFor({ timeout: 120_000 });
    await until('each arrived once', async () => (await balloon()).fuel === 20);
    await second.waitForFunction(() => document.querySelectorAll('.pending').length === 0);
    expect(await second.locator('#fuel').textContent()).to.equal('20');
    const { events } = (await service.request('GET', '/v1/journal?doc=balloons/bl-17&before=now&limit=3')).json as {
      events: { data: { after: { data: { fuel: number } } } }[];
    };
    expect(events.map(({ data }) => data.after.data.fuel)).to.deep.equal([20, 30, 40]);
  });
});
