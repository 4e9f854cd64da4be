// Takes the pictures in docs/screenshots from a running demo: `node scripts/screenshots.mjs [name …]`.
// Needs Chromium; for the terminal pictures also Xvfb, xterm and ImageMagick from Debian's packages.
import { spawn, spawnSync } from 'node:child_process';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { chromium } from 'playwright-core';
import { makeChromiumReady, makeReady, root } from './ready.mjs';

const KEY = 'festival-key-0123456789';
const PORT = 4690;
const url = `http://127.0.0.1:${PORT}`;
const directory = process.env.SCREENSHOT_DIRECTORY ?? join(root, 'docs/screenshots');
const main = join(root, 'packages/cli/dist/bundled/main.js');
const wanted = process.argv.slice(2);

/** Pictures of a demo with several nodes. They are made by themselves, after all others. */
const CLUSTERED = ['console-operations', 'terminal-status'];
const clustered = wanted.some((name) => CLUSTERED.includes(name));
if (clustered && !wanted.every((name) => CLUSTERED.includes(name))) {
  throw new Error(`Make ${CLUSTERED.join(' and ')} by themselves.`);
}

makeReady();
mkdirSync(directory, { recursive: true });
const executablePath = makeChromiumReady();
const demo = spawn(process.execPath, [main, 'demo', '--port', String(PORT), ...(clustered ? ['--nodes', '3'] : [])], {
  env: { ...process.env, UPROAR_ADMIN_KEY: KEY },
  stdio: ['ignore', 'pipe', 'inherit'],
});
await new Promise((resolve) => demo.stdout.on('data', (text) => String(text).includes('Ctrl-C') && resolve()));

const pages = {
  async 'console-hooks'(page) {
    // The radio desk needs some landings to hear of.
    await sleep(20_000);
    await signIn(page, 'hooks');
    await page.getByRole('button', { name: 'Deliveries' }).click();
    await page.locator('.when').nth(1).click();
    await sleep(1500);
  },
  async 'console-data'(page) {
    await signIn(
      page,
      `data/balloons?where=${encodeURIComponent("status = 'aloft' AND altitude > 300")}&order=-altitude`,
    );
    await sleep(5000);
    await page.locator('[data-row] [data-field="name"]').nth(3).dblclick();
    await page.keyboard.type('Amber Heron');
    await sleep(1000);
  },
  async 'console-document'(page) {
    const other = await open('present', 'viewers/dora', '{"name":"dora","document":"balloons/bl-300"}');
    await signIn(page, 'data/balloons/bl-300');
    await page.getByText('Also looking at this').waitFor();
    await page.getByText('Form', { exact: true }).click();
    await page.getByRole('textbox', { name: 'status' }).fill('inflating');
    const change = { method: 'PATCH', body: '{"status":"aloft","altitude":60}' };
    const headers = { authorization: `Bearer ${KEY}`, 'content-type': 'application/merge-patch+json' };
    await fetch(`${url}/v1/data/balloons/bl-300`, { ...change, headers });
    await page.getByText('Both of you changed the same fields.').waitFor();
    await sleep(500);
    other.kill();
  },
  async 'console-shapes'(page) {
    for (const [id, data] of [
      ['f-odd-1', { ballonId: 'bl-7', day: 3, passengers: '4' }],
      ['f-odd-2', { day: 4, passengers: 'two', weather: 'calm' }],
    ]) {
      const headers = { authorization: `Bearer ${KEY}`, 'content-type': 'application/json' };
      await fetch(`${url}/v1/data/flights/${id}`, { method: 'PUT', headers, body: JSON.stringify(data) });
    }
    const authorization = `Bearer ${KEY}`;
    const schema = await (await fetch(`${url}/v1/schemas/flights/proposal`, { headers: { authorization } })).json();
    schema.properties.passengers = { type: 'integer' };
    const headers = { authorization, 'content-type': 'application/json' };
    const body = JSON.stringify({ schema, mode: 'warn' });
    await fetch(`${url}/v1/schemas/flights`, { method: 'PUT', headers, body });
    await signIn(page, 'shapes/flights?schema');
    await page.getByRole('region', { name: 'Fields' }).waitFor();
    await page.getByText('version 1, warn').waitFor();
    await page.getByRole('button', { name: 'Check all documents' }).click();
    await page.getByRole('list', { name: 'Documents that do not fit' }).waitFor();
    await sleep(1500);
  },
  // The documentation, and beside it the API in the console.
  async docs(page) {
    await page.goto(`${url}/docs/query.html#related-documents`);
    await page.getByRole('heading', { name: 'Related documents' }).waitFor();
    await sleep(500);
    const left = await page.screenshot();
    await signIn(page, `api/http?open=${encodeURIComponent('get-/v1/data/{collection}')}`);
    await page.getByText('Answer 200').waitFor();
    await sleep(500);
    await showTogether(page, [left, await page.screenshot()]);
  },
  // The public board, and beside it a phone without a connection.
  async 'demo-pages'(page) {
    const board = await page
      .context()
      .browser()
      .newPage({ viewport: { width: 1280, height: 800 } });
    await board.goto(`${url}/board/`);
    await board.getByText('Live', { exact: true }).waitFor();
    await sleep(8000);
    const boardPicture = await board.screenshot();
    await board.close();
    await page.setViewportSize({ width: 400, height: 800 });
    await page.goto(`${url}/field/#key=${KEY}&balloon=bl-17`);
    await page.getByText('Connected').waitFor();
    await page.getByLabel('Tell the tower').fill('In sight, heading for the river');
    await page.getByRole('button', { name: 'Send' }).click();
    const authorization = `Bearer ${KEY}`;
    const picture = await fetch(`${url}/v1/files/picture-bl-1/content`, { headers: { authorization } });
    const buffer = Buffer.from(await picture.arrayBuffer());
    await sleep(1500);
    demo.kill('SIGSTOP');
    await page.getByRole('button', { name: 'landed' }).click();
    await page.getByLabel('Tell the tower').fill('Down by the mill, road is free');
    await page.getByRole('button', { name: 'Send' }).click();
    await page.getByLabel('Picture …').setInputFiles({ name: 'down.png', mimeType: 'image/png', buffer });
    await sleep(1200);
    const phonePicture = await page.screenshot();
    demo.kill('SIGCONT');
    const [left, right] = [boardPicture, phonePicture].map(
      (bytes) => `data:image/png;base64,${bytes.toString('base64')}`,
    );
    await page.setViewportSize({ width: 1280, height: 600 });
    await page.goto('about:blank');
    await page.setContent(
      `<body style="margin:0;display:flex;gap:16px;background:#9298a8"><img src="${left}" height="600"><img src="${right}" height="600">`,
    );
    await sleep(300);
  },
  async 'console-query'(page) {
    const where = "status = 'aloft' AND altitude > 800 AND fuel BETWEEN 20 AND 80";
    const include = 'crew = crews via crewId; flights by balloonId order -start limit 2';
    const parts = new URLSearchParams({ from: 'balloons', where, order: '-altitude', include });
    await signIn(page, `query?${parts}`);
    await page.getByText('An index would help').waitFor();
    await sleep(4000);
  },
  async 'console-journal'(page) {
    await signIn(page, 'journal?collection=balloons');
    const changes = page.getByRole('listbox').getByRole('option');
    await changes.first().waitFor();
    await sleep(3000);
    await page.getByRole('button', { name: 'Pause' }).click();
    await changes.nth(4).click();
  },
  async 'console-boards'(page) {
    await signIn(page, 'boards/tower');
    // The chart needs a while to have something to show.
    await sleep(60_000);
  },
  // A result rewound on the map, a comparison, an edit of many documents, and the first steps.
  async 'console-work'(page) {
    const shots = [];
    const where = encodeURIComponent("status = 'aloft'");
    await signIn(page, `data/balloons?where=${where}&show=map&colour=altitude&base=areas&trails=yes`);
    await sleep(20_000);
    await page.getByRole('button', { name: 'Rewind' }).click();
    await sleep(1500);
    const slider = page.getByRole('slider', { name: 'Moment' });
    const most = Number(await slider.getAttribute('max'));
    await slider.fill(String(Math.round(most * 0.4)));
    await page.getByLabel('Speed').selectOption('10');
    await page.getByRole('button', { name: 'Play' }).click();
    await sleep(1200);
    shots.push(await page.screenshot());
    await page.goto(
      `${url}/console/compare?kind=results&a=${encodeURIComponent(`from=balloons&where=${where}&at=40`)}&b=${encodeURIComponent(`from=balloons&where=${where}`)}`,
    );
    await page.getByRole('region', { name: 'Differences of the results' }).getByText('different').first().waitFor();
    await sleep(1000);
    shots.push(await page.screenshot());
    await page.goto(`${url}/console/data/balloons?edit=many&where=${encodeURIComponent("status = 'landed'")}`);
    const drawer = page.locator('.ant-drawer-content');
    await drawer.getByRole('combobox', { name: 'field' }).fill('status');
    await drawer.getByRole('textbox', { name: 'value' }).fill('retrieved');
    await sleep(800);
    shots.push(await page.screenshot());
    await page.goto(`${url}/console/start`);
    await page.getByText('A policy').or(page.getByText('of a policy is in force')).first().waitFor();
    await page.getByRole('button', { name: /Show it live/ }).click();
    await page.getByTitle('React', { exact: true }).click();
    await sleep(800);
    shots.push(await page.screenshot());
    await showTogether(page, shots);
  },
  async 'console-operations'(page) {
    await page.emulateMedia({ colorScheme: 'dark' });
    const bench = await open('bench', '--seconds', '20', '--writers', '3', '--watchers', '3');
    await sleep(20_000);
    await signIn(page, 'operations');
    await sleep(12_000);
    bench.kill();
  },
  // Usage, and beside it the connected devices.
  async 'console-usage'(page) {
    const board = await (
      await fetch(`${url}/v1/keys`, {
        method: 'POST',
        headers: { authorization: `Bearer ${KEY}`, 'content-type': 'application/json' },
        body: JSON.stringify({ name: 'board', scope: 'read' }),
      })
    ).json();
    const watching = await open('watch', 'balloons', '--lines', '--key', board.key);
    for (let n = 0; n < 30; n++) {
      const where = encodeURIComponent(`passengers = ${n % 7}`);
      const headers = { authorization: `Bearer ${board.key}` };
      await fetch(`${url}/v1/data/flights?limit=1&order=-maxAltitude&where=${where}`, { headers });
    }
    await sleep(5000);
    await signIn(page, 'usage');
    await page.getByTitle('Both', { exact: true }).click();
    await sleep(1500);
    const left = await page.screenshot();
    await signIn(page, 'devices');
    await page.getByRole('button', { name: 'About key:board' }).first().click();
    await sleep(3000);
    const right = await page.screenshot();
    watching.kill();
    await showTogether(page, [left, right]);
  },
  async 'console-policy'(page) {
    await signIn(page, 'access/policy');
    await page.locator('.cm-content').waitFor();
    await page.getByLabel('in', { exact: true }).selectOption('flights');
    await page.getByLabel('Action').selectOption('update');
    await page.getByLabel('Id of the document').fill('f-0243');
    await page.getByLabel('Data as JSON').fill('{"crewId": "c-9"}');
    await page.getByRole('button', { name: 'Try', exact: true }).click();
    await page.getByText('Refused').waitFor();
    await sleep(800);
  },
};

const terminals = {
  'terminal-watch': {
    lines: [`uproar watch balloons --where "status = 'aloft'" --order -altitude --limit 30`],
    seconds: 25,
  },
  'terminal-query': {
    lines: [
      `uproar query flights --where "day = 3 AND passengers >= 5" --order -maxAltitude --limit 6 --fields start,maxAltitude,passengers,status`,
      `uproar query flights --where "day = 3 AND passengers >= 5" --order -maxAltitude --limit 6 --explain`,
      'uproar index create flights day,-maxAltitude',
      `uproar query flights --where "day = 3 AND passengers >= 5" --order -maxAltitude --limit 6 --explain`,
      `uproar query balloons --where "altitude > 300 AN status = 'aloft'"`,
      `uproar query balloons --where "altitud > 300"`,
      `uproar query balloons --limit 4 --fields name,status --include "crew = crews via crewId; flights by balloonId order -start limit 3"`,
      `uproar query balloons --summary "count(),max(altitude)" --by status --chart`,
    ],
    seconds: 11,
  },
  'terminal-journal': {
    lines: [
      `uproar merge notices/n-007 '{"text":"Cancelled","severity":"warning"}'`,
      'uproar journal notices/n-007',
      'uproar revert notices/n-007 --to 20',
      'uproar hook',
      'uproar hook test landings',
      'uproar hook deliveries landings --limit 6',
      'uproar journal --collection pads --follow',
    ],
    seconds: 14,
  },
  'terminal-conformance': {
    lines: [
      'uproar conformance --only result,changes,values,cut -- python3 docs/recipes/live.py',
      'uproar conformance --only reset --timeout 3 -- python3 /tmp/my-client.py',
    ],
    seconds: 24,
  },
  'terminal-policy': {
    lines: [
      `uproar policy try update flights/f-0243 --account ada --merge '{"crewId":"c-9"}'`,
      `uproar policy try read balloons/bl-2 --anonymous`,
      'uproar policy test demo/policy-cases.yaml',
      'uproar setup compare demo',
      'uproar key create gate-2 --scope write --collections gates --expires-in 30d',
      'uproar key list',
    ],
    seconds: 13,
  },
  'terminal-status': {
    lines: ['uproar status', 'uproar cluster', 'uproar doctor', 'uproar devices'],
    seconds: 12,
  },
};

/** A command that runs beside the page. */
async function open(...args) {
  const environment = { ...process.env, UPROAR_URL: url, UPROAR_KEY: KEY };
  const started = spawn(process.execPath, [main, ...args], { env: environment, stdio: 'ignore' });
  await sleep(1000);
  return started;
}

/** Shows pictures two in a row, as one. */
async function showTogether(page, shots) {
  const images = shots.map((bytes) => `<img src="data:image/png;base64,${bytes.toString('base64')}" width="960">`);
  await page.setViewportSize({
    width: 2 * 960 + 36,
    height: Math.ceil(shots.length / 2) * 600 + 12 * (1 + Math.ceil(shots.length / 2)),
  });
  await page.goto('about:blank');
  await page.setContent(
    `<body style="margin:0;padding:12px;display:grid;grid-template-columns:960px 960px;gap:12px;background:#9298a8">${images.join('')}`,
  );
  await sleep(500);
}

async function signIn(page, path) {
  await page.goto(`${url}/console/${path}#key=${KEY}`);
  await page.getByText('Connected', { exact: true }).waitFor();
}

const chosen = (name) => (wanted.length === 0 ? !CLUSTERED.includes(name) : wanted.includes(name));
const browser = await chromium.launch({
  executablePath,
  args: [
    '--no-sandbox',
    '--disable-gpu',
    '--disable-quic',
    '--no-first-run',
    '--disable-background-networking',
    '--disable-component-update',
    '--disable-sync',
  ],
});
for (const [name, act] of Object.entries(pages).filter(([name]) => chosen(name))) {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  page.on('pageerror', (error) => console.error(`${name}: ${error.message}`));
  page.on('console', (message) => message.type() === 'error' && console.error(`${name}: ${message.text()}`));
  page.setDefaultTimeout(10_000);
  await act(page).catch((error) => console.error(`${name}: ${error.message}`));
  await page.screenshot({ path: join(directory, `${name}.png`) });
  await page.close();
}
await browser.close();

// A client that keeps its copy where the store says that it should not.
const recipe = readFileSync(join(root, 'docs/recipes/live.py'), 'utf8');
writeFileSync('/tmp/my-client.py', recipe.replace('name in ("result", "reset")', 'name == "result"'));

for (const [name, { lines, seconds }] of Object.entries(terminals).filter(([name]) => chosen(name))) {
  const display = ':93';
  const screen = spawn('Xvfb', [display, '-screen', '0', '1280x800x24'], { stdio: 'ignore' });
  await sleep(1000);
  const script = lines
    .map(
      (line) =>
        `printf '\\033[1m$ %s\\033[0m\\n' ${JSON.stringify(line).replaceAll('$', '\\$')}; ${line.replace(/^uproar/, `node ${main}`)}`,
    )
    .join('; echo; ');
  const terminal = spawn(
    'xterm',
    [
      '-geometry',
      '158x46+0+0',
      '-fa',
      'DejaVu Sans Mono',
      '-fs',
      '10',
      '-bg',
      '#16171c',
      '-fg',
      '#e4e5ea',
      '-e',
      'bash',
      '-c',
      `${script}; sleep 60`,
    ],
    {
      env: { ...process.env, DISPLAY: display, UPROAR_URL: url, UPROAR_KEY: KEY, UPROAR_ADMIN_KEY: '' },
      stdio: 'ignore',
    },
  );
  await sleep(seconds * 1000);
  spawnSync('import', ['-display', display, '-window', 'root', join(directory, `${name}.png`)], { stdio: 'inherit' });
  terminal.kill();
  screen.kill();
  await sleep(300);
}
demo.kill('SIGINT');
if (wanted.length === 0) {
  await new Promise((resolve) => demo.once('exit', resolve));
  spawnSync(process.execPath, [import.meta.filename, ...CLUSTERED], { stdio: 'inherit' });
}
