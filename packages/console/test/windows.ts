import { expect } from 'chai';
import { chromium, type Browser, type BrowserContextOptions, type Page } from 'playwright-core';
import { CHROMIUM } from '../../../test/chromium.js';

/** Browser windows on the console, which note everything that goes wrong in them. */
export class Windows {
  #browser: Browser | undefined;
  readonly #faults: string[] = [];

  /** Made where a suite begins; the browser lives as long as the suite, and each test fails on what went wrong in a page. */
  constructor() {
    before(async () => {
      this.#browser = await chromium.launch(CHROMIUM);
    });
    after(() => this.#browser?.close());
    afterEach(() => expect(this.#faults.splice(0), 'nothing goes wrong in the page').to.deep.equal([]));
  }

  /** A window of its own at an address, of somebody who has asked for less motion unless told otherwise. */
  async open(address: string, options: BrowserContextOptions = {}): Promise<Page> {
    const context = await this.#browser!.newContext({
      viewport: { width: 1280, height: 800 },
      reducedMotion: 'reduce',
      ...options,
    });
    const page = await context.newPage();
    page.setDefaultTimeout(120_000);
    page.on('pageerror', (error) => this.#faults.push(error.message));
    page.on('console', (message) => {
      if (message.type() === 'error' && !message.text().includes('WebSocket')) this.#faults.push(message.text());
    });
    await page.goto(address);
    return page;
  }

  /** A window of its own on a page of the console, signed in with a key. */
  async signIn(url: string, path: string, key: string, options?: BrowserContextOptions): Promise<Page> {
    const page = await this.open(`${url}/console/${path}#key=${key}`, options);
    await page.getByText('Connected', { exact: true }).waitFor();
    return page;
  }
}

/** Writes into an editor. Typed over a selection, text would take on its look, which the page's security policy forbids. */
export async function writeInto(page: Page, label: string, text: string): Promise<void> {
  await page.getByLabel(label, { exact: true }).click();
  await page.keyboard.press('Control+A');
  await page.keyboard.press('Delete');
  await page.keyboard.insertText(text);
}
