import { expect } from 'chai';
import { readFileSync, writeFileSync, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { chromium, type Browser } from 'playwright-core';
import { CHROMIUM } from '../../../test/chromium.js';
import { Run } from '../../../test/command-run.js';
import { ServedProcess } from '../../../test/served-process.js';
import { temporaryDirectory } from '../../../test/service.js';

const QUICK_START = new URL('../../../docs/quick-start.md', import.meta.url).pathname;

describe('the quick start, as a person follows it', () => {
  let browser: Browser;
  let served: ServedProcess;
  const folder = temporaryDirectory();
  before(async () => {
    const pages = join(folder.path, 'my-pages');
    mkdirSync(pages);
    served = await ServedProcess.start(join(folder.path, 'my-data'), 0, ['--open-for', '1h', '--pages', pages]);
    const html = /```html board\.html\n([\s\S]*?)```/.exec(readFileSync(QUICK_START, 'utf8'))![1]!;
    writeFileSync(join(pages, 'board.html'), html);
    browser = await chromium.launch(CHROMIUM);
  });
  after(async () => {
    await browser.close();
    await served.stop('SIGTERM');
    folder.remove();
  });

  it('leads to two screens that show each write, one of them your own page', async () => {
    const faults: string[] = [];
    const open = async (path: string) => {
      const page = await browser.newPage();
      page.on('pageerror', (error) => faults.push(error.message));
      page.on('console', (message) => {
        // A page of one’s own need not have a picture for its tab.
        if (message.type() === 'error' && !message.location().url.endsWith('/favicon.ico')) faults.push(message.text());
      });
      await page.goto(served.url + path);
      return page;
    };
    const board = await open('/pages/board.html');
    const console = await open('/console/');
    await console.getByRole('button', { name: 'Continue without a key' }).click();
    await console.getByText('Connected', { exact: true }).waitFor();
    const uproar = async (...args: string[]) => {
      const { code, err } = await new Run(args, { UPROAR_URL: served.url }).ended;
      expect(code, err).to.equal(0);
    };
    await uproar('put', 'balloons/bl-1', '{"name":"Amber Heron","altitude":120}');
    await board.getByText('Amber Heron: 120 m').waitFor();
    await console.getByRole('link', { name: 'balloons' }).waitFor();
    await uproar('merge', 'balloons/bl-1', '{"altitude":420}');
    await board.getByText('Amber Heron: 420 m').waitFor();
    expect(faults).to.deep.equal([]);
  });

  it('lets no script run that the file of a page does not have', async () => {
    const answer = await fetch(`${served.url}/pages/board.html`);
    const policy = answer.headers.get('content-security-policy')!;
    expect(policy)
      .to.match(/script-src 'self' 'sha256-[\w+/=]+'/)
      .and.not.include("script-src 'self' 'unsafe");
    for (const path of ['/pages/../package.json', '/pages/%2e%2e/my-data/uproar.sqlite', '/pages/none.html']) {
      expect((await fetch(served.url + path)).status, path).to.equal(404);
    }
  });
});
