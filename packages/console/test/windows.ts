import { expect } from 'chai';
import { chromium, type Browser, type BrowserContextOptions, type Page } from 'playwright-core';
import { CHROMIUM } from '../../../test/chromium.js';

/** Browser windows on the console, which note everything that goes wrong in them. */
export class Windows {
  #browser: Browser | undefined;
  readonly #faults: string[] = [];
  #expected: RegExp[] = [];

  /**
   * Made where a suite begins; the browser lives as long as the suite. Each test fails on every error in a page, and on every
   * failed request that it did not expect.
   */
  constructor() {
    before(async () => {
      this.#browser = await chromium.launch(CHROMIUM);
    });
    after(() => this.#browser?.close());
    afterEach(() => {
      const faults = this.#faults.splice(0).filter((fault) => !this.#expected.some((pattern) => pattern.test(fault)));
      this.#expected = [];
      expect(faults, 'nothing goes wrong in the page').to.deep.equal([]);
    });
  }

  /** Expects faults in this test, such as `/^404 .*\/preview/`: of requests with their status, method and path. */
  expectFaults(...patterns: RegExp[]): void {
    this.#expected.push(...patterns);
  }

  /** A new window at an address; with reduced motion unless the options say otherwise. */
  async open(address: string, options: BrowserContextOptions = {}): Promise<Page> {
    const context = await this.#browser!.newContext({
      viewport: { width: 1280, height: 800 },
      reducedMotion: 'reduce',
      ...options,
    });
    const page = await context.newPage();
    this.listen(page);
    await page.goto(address);
    return page;
  }

  /** Notes what goes wrong in a page. */
  listen(page: Page): void {
    page.setDefaultTimeout(60_000);
    noteFaults(page, (fault) => this.#faults.push(fault));
  }

  /** A window of its own on a page of the console, signed in with a key. */
  async signIn(url: string, path: string, key: string, options?: BrowserContextOptions): Promise<Page> {
    const page = await this.open(`${url}/console/${path}#key=${key}`, options);
    await page.getByText('Connected', { exact: true }).waitFor();
    return page;
  }
}

/** Goes to another page of the console as a link does, without loading everything again. */
export async function visit(page: Page, path: string): Promise<void> {
  const heading = await page.locator('main h1').elementHandle();
  const isAnother = await page.evaluate((address) => {
    const from = location.pathname.split('/');
    history.pushState(null, '', address);
    dispatchEvent(new PopStateEvent('popstate'));
    return location.pathname.split('/')[2] !== from[2];
  }, `/console/${path}`);
  if (isAnother) await page.waitForFunction((old) => !old!.isConnected, heading);
  await page.locator('main h1').waitFor();
}

/** Hears of every error in a page, and of every request that failed. */
export function noteFaults(page: Page, note: (fault: string) => void): void {
  page.on('pageerror', (error) => note(error.stack ?? error.message));
  page.on('console', (message) => {
    // Failed requests are noted below, with what they were.
    const known = /WebSocket|Failed to load resource/.test(message.text());
    if (message.type() === 'error' && !known) note(message.text());
  });
  page.on('response', (response) => {
    if (response.status() < 400) return;
    note(`${response.status()} ${response.request().method()} ${new URL(response.url()).pathname}`);
  });
  page.on('requestfailed', (request) => {
    const reason = request.failure()?.errorText ?? 'failed';
    // What a page was reading when it was left, or had no use for any more, is given up.
    if (!reason.includes('ERR_ABORTED')) note(`${reason} ${request.method()} ${request.url()}`);
  });
}

/** How fast a person types who has the text before them, in milliseconds for a character. */
const COPYING_MS = 25;

/**
 * Writes into an editor in place of what stands there: typed where it is one line of JSON, otherwise put in at once, as editors
 * indent lines and complete conditions by themselves.
 */
export async function writeInto(page: Page, label: string, text: string): Promise<void> {
  await page.getByLabel(label, { exact: true }).click();
  // Typed over a selection, text would take on its look, which the page's security policy forbids.
  await page.keyboard.press('Control+A');
  await page.keyboard.press('Delete');
  if (text.startsWith('{') && !text.includes('\n')) await page.keyboard.type(text, { delay: COPYING_MS });
  else await page.keyboard.insertText(text);
}
