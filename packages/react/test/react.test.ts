import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect } from '@uproar/client';
import { PreparedWatch } from '@uproar/react';
import { expect } from 'chai';
import { build } from 'esbuild';
import { createElement } from 'react';
import { renderToPipeableStream, renderToString } from 'react-dom/server';
import { PassThrough } from 'node:stream';
import type { Page } from 'playwright-core';
import { Windows } from '../../console/test/windows.js';
import { temporaryDirectory, TestService, until } from '../../../test/service.js';
import { App } from './app.js';

const APP = fileURLToPath(new URL('./app.ts', import.meta.url));

/** What the page puts on its window for the tests. */
type AppWindow = Window & {
  renders: Record<string, number>;
  store: ReturnType<typeof connect>;
};

describe('the React hooks', function () {
  this.timeout(60_000);
  const windows = new Windows();
  const pages = temporaryDirectory();
  let service: TestService;
  let key: string;
  before(async () => {
    await build({
      entryPoints: [APP],
      outfile: join(pages.path, 'app.js'),
      bundle: true,
      format: 'esm',
      platform: 'browser',
      define: { 'process.env.NODE_ENV': '"development"' },
    });
    writeFileSync(
      join(pages.path, 'index.html'),
      '<!doctype html><title>App</title><div id="app"></div><script type="module" src="app.js"></script>',
    );
    service = await TestService.start({ pages: { '/app/': pages.path } });
    const made = await service.request('POST', '/v1/keys', { name: 'app', scope: 'write', collections: ['balloons'] });
    ({ key } = made.json as { key: string });
  });
  after(async () => {
    await service.stop();
    pages.remove();
  });
  beforeEach(async () => {
    for (const n of [1, 2, 3]) {
      await service.request('PUT', `/v1/data/balloons/b-${n}`, { name: `Balloon ${n}`, status: 'aloft' });
    }
  });

  const open = async () => {
    const page = await windows.open(`${service.url}/app/index.html#key=${key}`);
    await page.getByText('aloft: live').waitFor();
    return page;
  };
  const text = (page: Page, id: string) => page.locator(`#${id}`).textContent();
  const rendersOf = (page: Page) => page.evaluate(() => ({ ...(window as unknown as AppWindow).renders }));
  const watchesOf = async () => {
    const { json } = await service.request('GET', '/v1/connections?search=key:app');
    return (json as { connections: { watches: unknown[] }[] }).connections.flatMap(({ watches }) => watches).length;
  };

  it('show a list, a document and the connection, and change with what they are given', async () => {
    const page = await open();
    expect(await page.locator('li').allTextContents()).to.have.length(3);
    await page.getByText('b-1 live {"name":"Balloon 1","status":"aloft"}').waitFor();
    expect(await text(page, 'connection')).to.equal('online, 0 pending');
    await service.request('PATCH', '/v1/data/balloons/b-1', { status: 'packed' });
    await page.getByText('b-1 live {"name":"Balloon 1","status":"packed"}').waitFor();
    await until('it has left the list', async () => (await page.locator('li').count()) === 2);
    await page.getByRole('button', { name: 'packed' }).click();
    await page.getByText('packed: live').waitFor();
    expect(await page.locator('li').allTextContents()).to.deep.equal(['Balloon 1 packed']);
    await page.getByRole('button', { name: 'other' }).click();
    await page.getByText('b-2 live').waitFor();
    await service.request('DELETE', '/v1/data/balloons/b-2');
    await page.getByText('b-2 live none').waitFor();
    await page.close();
  });

  it('render only what has changed', async () => {
    const page = await open();
    const before = await rendersOf(page);
    for (let n = 0; n < 5; n++) await service.request('PATCH', '/v1/data/balloons/b-2', { name: `Heron ${n}` });
    await page.getByText('Heron 4 aloft').waitFor();
    const after = await rendersOf(page);
    const more = (name: string) => after[name]! - before[name]!;
    expect([more('b-1'), more('b-3'), more('one'), more('connection')], 'the others').to.deep.equal([0, 0, 0, 0]);
    // In strict mode React renders everything twice.
    expect(more('b-2')).to.be.within(2, 10);
    await page.close();
  });

  it('show own writes as pending at once, and how many wait', async () => {
    const page = await open();
    await page.context().setOffline(true);
    await page.evaluate(() => {
      const { store } = window as unknown as AppWindow;
      void store.collection('balloons').merge('b-1', { name: 'Offline' });
    });
    await page.locator('li.pending').getByText('Offline aloft').waitFor();
    await page.getByText('"status":"aloft"} pending').waitFor();
    await page.getByText(', 1 pending').waitFor();
    await page.context().setOffline(false);
    await page.getByText('online, 0 pending').waitFor();
    await until('it is written', async () => {
      const { json } = await service.request('GET', '/v1/data/balloons/b-1');
      return (json as { data: { name: string } }).data.name === 'Offline';
    });
    await page.close();
  });

  it('close their watches when they are unmounted, and begin again', async () => {
    const page = await open();
    await page.getByText('live: b-1 b-2 b-3').waitFor();
    await until('each watches once, in strict mode, too', async () => (await watchesOf()) === 3);
    await page.getByRole('button', { name: 'hide' }).click();
    await until('no watch is left', async () => (await watchesOf()) === 0, 15_000);
    await page.getByRole('button', { name: 'hide' }).click();
    await page.getByText('live: b-1 b-2 b-3').waitFor();
    await page.getByText('aloft: live').waitFor();
    await page.close();
  });

  it('suspend until there is something to show, and tell the nearest boundary what is refused', async () => {
    // React reports what a boundary has caught.
    windows.expectFaults(/WatchFailedError/);
    const page = await open();
    await page.getByText('live: b-1 b-2 b-3').waitFor();
    await page.getByRole('button', { name: 'ask' }).click();
    await page.getByText('refused: /problems/not-allowed').waitFor();
    expect(await page.locator('li').count(), 'the rest goes on').to.equal(3);
    await page.close();
  });

  it('render on a server without a store', async () => {
    const store = connect('http://127.0.0.1:9', { token: key, outbox: false });
    try {
      const view = new PreparedWatch(() => store.collection('balloons').watch());
      const secret = new PreparedWatch(() => store.collection('secrets').watch());
      const app = createElement(App, { store, view: view as never, secret });
      const html = renderToString(app);
      expect(html).to.include('aloft: loading').and.include('b-1 loading none');
      expect(html).to.include('connecting, 0 pending').and.include('id="fallback"');
      const streamed = await new Promise<string>((resolve, reject) => {
        let sent = '';
        const out = new PassThrough();
        out.on('data', (part: Buffer) => (sent += part.toString())).on('end', () => resolve(sent));
        const { pipe } = renderToPipeableStream(app, {
          onShellReady: () => pipe(out),
          onShellError: reject,
          onError: () => undefined,
        });
      });
      expect(streamed).to.include('id="fallback"');
      view.close();
      secret.close();
    } finally {
      store.close();
    }
  });
});
