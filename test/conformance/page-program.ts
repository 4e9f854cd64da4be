// Runs a page in headless Chromium as a program for the conformance kit: page-program.ts SCRIPT QUERY. The page comes from
// the address of the store, so that its requests go there, and prints through the console.
import { readFileSync } from 'node:fs';
import { chromium } from 'playwright-core';
import { CHROMIUM } from '../chromium.js';

const [script, query] = process.argv.slice(2) as [string, string];
const { UPROAR_URL, UPROAR_KEY } = process.env as { UPROAR_URL: string; UPROAR_KEY: string };

// Chromium takes a page that a test stands in for as one from outside, which may not reach this machine.
const args = [...CHROMIUM.args!, '--disable-features=LocalNetworkAccessChecks,LocalNetworkAccessChecksWebSockets'];
const browser = await chromium.launch({ ...CHROMIUM, args });
const page = await browser.newPage();
page.on('console', (message) => {
  const text = message.text();
  if (text.startsWith('state ')) process.stdout.write(`${text.slice(6)}\n`);
  else process.stderr.write(`${text}\n`);
});
const finish = async (code: number) => {
  await browser.close();
  process.exit(code);
};
await page.exposeFunction('refused', (problem: string) => {
  process.stderr.write(`${problem}\n`);
  void finish(1);
});
const files: Record<string, string> = {
  '/page/app.html':
    '<!doctype html><meta charset="utf-8"><p id="state"></p><ol id="board"></ol><script src="app.js"></script>',
  '/page/app.js': readFileSync(script, 'utf8'),
};
await page.route(`${UPROAR_URL}/page/**`, (route) => {
  const { pathname } = new URL(route.request().url());
  const contentType = pathname.endsWith('.js') ? 'text/javascript' : 'text/html';
  return route.fulfill({ body: files[pathname]!, contentType });
});
await page.addInitScript((given) => Object.assign(globalThis, given), { key: UPROAR_KEY, query });
await page.goto(`${UPROAR_URL}/page/app.html#${UPROAR_KEY}`);
process.on('SIGTERM', () => void finish(0));
