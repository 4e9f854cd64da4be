import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { connect } from '@uproar/client';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import { startService } from '@uproar/service';
import { chromium, type Browser, type Page } from 'playwright-core';
import { CHROMIUM } from '../test/chromium.js';
import { KEY, percentile, type Row } from './harness.js';

const DOCUMENTS = 1000;
const CHANGES_PER_SECOND = 100;
const SECONDS = 10;
const ROUNDS = 7;
const FIRST_LOAD_BYTES = 500_000;

/** A page that asks for the same documents once and writes them into a table: the least there can be. */
const BARE_SCRIPT = `
const key = location.hash.slice(1);
const answer = await fetch('/v1/data/balloons?limit=none', { headers: { authorization: 'Bearer ' + key, accept: 'application/x-ndjson' } });
const documents = (await answer.text()).trim().split('\\n').map((line) => JSON.parse(line));
const names = Object.keys(documents[0].data);
document.querySelector('table').innerHTML = documents.slice(0, 45).map(({ id, data }) =>
  '<tr data-row="' + id + '"><td>' + id + '</td>' + names.map((name) => '<td>' + JSON.stringify(data[name]) + '</td>').join('') + '</tr>').join('');
`;

/** The console in a browser: how soon it shows rows, what it loads, and whether it stays responsive under changes. */
export async function benchConsole(): Promise<Row[]> {
  const directory = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  const pages = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  writeFileSync(
    join(pages, 'index.html'),
    '<!doctype html><table></table><script type="module" src="bare.js"></script>',
  );
  writeFileSync(join(pages, 'bare.js'), BARE_SCRIPT);
  const service = await startService({
    directory,
    host: '127.0.0.1',
    port: 0,
    adminKey: KEY,
    consoleDirectory: CONSOLE_DIRECTORY,
    pages: { '/pages/': pages },
  });
  const browser = await chromium.launch(CHROMIUM);
  try {
    return await measure(browser, service.address);
  } finally {
    await browser.close();
    await service.close();
    for (const path of [directory, pages]) rmSync(path, { recursive: true, force: true });
  }
}

async function measure(browser: Browser, url: string): Promise<Row[]> {
  const store = connect(url, { token: KEY });
  const balloons = store.collection('balloons');
  const writes = Array.from({ length: DOCUMENTS }, (_, n) => ({
    put: `balloons/bl-${n}`,
    data: { name: `Balloon ${n}`, status: 'aloft', altitude: n, climb: 1.5, crew: { id: `c-${n % 40}`, size: 4 } },
  }));
  await store.commit({ writes });

  const shown = { ours: [] as number[], bare: [] as number[] };
  const painted: number[] = [];
  let loadedBytes = 0;
  for (let round = 0; round < ROUNDS; round++) {
    shown.bare.push((await open(browser, `${url}/pages/#${KEY}`)).rowsMs);
    const ours = await open(browser, `${url}/console/data/balloons#key=${KEY}`);
    shown.ours.push(ours.rowsMs);
    painted.push(ours.paintMs);
    loadedBytes = ours.loadedBytes;
  }

  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  await page.goto(`${url}/console/data/balloons?order=-altitude#key=${KEY}`);
  await page.locator('[data-row]').first().waitFor();
  await page.waitForTimeout(2000);
  // The compiler of this file marks named functions with a helper that the page does not have.
  await page.evaluate('globalThis.__name = (named) => named');
  const idle = await watchFrames(page);
  let n = 0;
  const timer = setInterval(() => {
    const id = `bl-${(n * 37) % DOCUMENTS}`;
    void balloons.merge(id, { altitude: Math.round(Math.random() * 2000), climb: n++ % 5 });
  }, 1000 / CHANGES_PER_SECOND);
  const busy = await watchFrames(page);
  clearInterval(timer);
  store.close();

  const row = (what: string, ours: number, bare: number, unit: string, aim: string, reached = true): Row => ({
    ...{ benchmark: 'console', what, ours, bare, unit, ratio: ours / bare, aim, reached },
  });
  const [rows, bareRows] = [percentile(shown.ours, 0.5), percentile(shown.bare, 0.5)];
  return [
    row(
      `from the address to the rows of ${DOCUMENTS} documents, nothing in the cache, compared with a bare page that fetches them once`,
      ...([rows, bareRows, 'ms', 'stated'] as const),
    ),
    row(
      `the same to the first paint, compared with the rows of the bare page`,
      percentile(painted, 0.5),
      bareRows,
      'ms',
      'stated',
    ),
    row(
      'script and style of that page, gzipped',
      loadedBytes,
      FIRST_LOAD_BYTES,
      'bytes',
      'below 1',
      loadedBytes < FIRST_LOAD_BYTES,
    ),
    row(
      `frames under ${CHANGES_PER_SECOND} changes per second in order, p99 of the interval between two, compared with idle`,
      ...([busy.p99Ms, idle.p99Ms, 'ms', 'stated'] as const),
    ),
    row(
      `time in tasks longer than 50 ms meanwhile, of ${SECONDS} s`,
      ...([busy.longMs, SECONDS * 1000, 'ms', 'below 0.05', busy.longMs < SECONDS * 50] as const),
    ),
  ];
}

/** Opens an address in a new window. Returns the time of the first paint, the time of the first rows, and the loaded bytes. */
async function open(browser: Browser, address: string) {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
  const page = await context.newPage();
  const sizes: Promise<number>[] = [];
  page.on('response', (response) => {
    if (/\.(js|css)$/.test(new URL(response.url()).pathname)) {
      sizes.push(response.body().then((body) => gzipSync(body).length));
    }
  });
  await page.goto(address);
  await page.locator('[data-row]').first().waitFor();
  const { rowsMs, paintMs } = await page.evaluate(() => ({
    rowsMs: performance.now(),
    paintMs: performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? 0,
  }));
  await page.waitForTimeout(700);
  const loadedBytes = (await Promise.all(sizes)).reduce((sum, size) => sum + size, 0);
  await context.close();
  return { rowsMs, paintMs, loadedBytes };
}

/** Watches how regularly the page draws, and how long its tasks hold it up. */
function watchFrames(page: Page): Promise<{ p99Ms: number; longMs: number }> {
  return page.evaluate(
    (forMs) =>
      new Promise<{ p99Ms: number; longMs: number }>((resolve) => {
        const gaps: number[] = [];
        let longMs = 0;
        const observer = new PerformanceObserver((list) => {
          for (const { duration } of list.getEntries()) longMs += duration;
        });
        observer.observe({ entryTypes: ['longtask'] });
        const started = performance.now();
        let last = started;
        const frame = (now: number) => {
          gaps.push(now - last);
          last = now;
          if (now - started < forMs) return requestAnimationFrame(frame);
          observer.disconnect();
          gaps.sort((a, b) => a - b);
          resolve({ p99Ms: gaps[Math.floor(gaps.length * 0.99)]!, longMs });
          return 0;
        };
        requestAnimationFrame(frame);
      }),
    SECONDS * 1000,
  );
}
