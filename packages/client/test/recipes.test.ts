import { expect } from 'chai';
import { spawn, type ChildProcess } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { chromium } from 'playwright-core';
import { canonicalText } from '@uproar/core';
import { CHROMIUM } from '../../../test/chromium.js';
import { freePort } from '../../../test/etcd.js';
import { HostileLink } from '../../../test/hostile-link.js';
import { Random } from '../../../test/random.js';
import { KEY, temporaryDirectory, TestService, until } from '../../../test/service.js';

const RECIPES = new URL('../../../docs/recipes/', import.meta.url).pathname;

describe('programs without our client', () => {
  let service: TestService;
  let link: HostileLink;
  const children: ChildProcess[] = [];
  const directories: { remove: () => void }[] = [];
  beforeEach(async () => {
    service = await TestService.start({ pages: { '/pages/': RECIPES }, hooks: { networks: ['127.0.0.1'] } });
    link = await HostileLink.start(service.url);
  });
  afterEach(async () => {
    // The shell has children of its own.
    for (const { pid } of children.splice(0)) process.kill(-pid!, 'SIGKILL');
    for (const directory of directories.splice(0)) directory.remove();
    await link.stop();
    await service.stop();
  });

  const run = (command: string, args: string[], more: Record<string, string> = {}) => {
    const environment = { ...process.env, UPROAR_URL: link.url, UPROAR_KEY: KEY, ...more };
    const child = spawn(command, args, { env: environment, stdio: ['ignore', 'pipe', 'ignore'], detached: true });
    children.push(child);
    return child;
  };
  const write = async (random: Random, count: number) => {
    const balloons = service.client().collection('balloons');
    for (let n = 0; n < count; n++) {
      const id = `bl~${random.integer(0, 8)}`;
      const there = await balloons.get(id);
      if (there && random.chance(0.2)) await balloons.delete(id);
      else if (there && random.chance(0.6))
        await balloons.merge(id, { altitude: random.integer(0, 900), list: [n, { n }] });
      else
        await balloons.put(id, {
          name: `B ${n}`,
          status: random.pick(['aloft', 'landed']),
          altitude: n,
          list: [1, 2, n],
          'a/b~': random.object(1),
        });
    }
  };
  const held = async () => {
    const { documents } = (await service.request('GET', '/v1/data/balloons?limit=1000')).json as {
      documents: { id: string }[];
    };
    return canonicalText(Object.fromEntries(documents.map((document) => [document.id, document])) as never);
  };
  /** Writes, breaks the link, writes, mends it, writes; the copy must come to what the store holds each time. */
  const follow = async (copy: () => string | undefined, seed: number) => {
    const random = new Random(seed);
    await write(random, 10);
    await until('the copy is right', async () => copy() === (await held()));
    link.down = true;
    link.cutAll();
    await write(random, 10);
    link.down = false;
    await until('it is right after the break', async () => copy() === (await held()), 120_000);
    await write(random, 25);
    await until('it is right again', async () => copy() === (await held()), 120_000);
  };

  it('live.sh keeps a correct copy with curl and jq', async () => {
    const directory = temporaryDirectory();
    directories.push(directory);
    const { path } = directory;
    run('sh', [join(RECIPES, 'live.sh'), 'balloons?limit=none'], { UPROAR_COPY: path });
    await follow(() => {
      try {
        return canonicalText(JSON.parse(readFileSync(join(path, 'state.json'), 'utf8')) as never);
      } catch {
        return undefined;
      }
    }, 5);
  });

  it("live.py keeps a correct copy with Python's standard library", async () => {
    let last: string | undefined;
    let rest = '';
    run('python3', [join(RECIPES, 'live.py'), 'balloons?limit=none']).stdout!.on('data', (text) => {
      const lines = (rest + String(text)).split('\n');
      rest = lines.pop()!;
      last = lines.at(-1) ?? last;
    });
    await follow(() => (last === undefined ? undefined : canonicalText(JSON.parse(last) as never)), 6);
  });

  it('board.html shows the right board with EventSource alone', async () => {
    const browser = await chromium.launch(CHROMIUM);
    const page = await browser.newPage();
    await page.goto(`${link.url}/pages/board.html#${KEY}`);
    const random = new Random(7);
    const shows = async () => {
      const query = new URLSearchParams({ where: "status = 'aloft'", order: '-altitude', limit: '10' });
      const { documents } = (await service.request('GET', `/v1/data/balloons?${query}`)).json as {
        documents: { data: { name: string; altitude: number } }[];
      };
      const expected = documents.map(({ data }) => `${data.name} ${data.altitude} m`);
      return canonicalText(await page.locator('li').allTextContents()) === canonicalText(expected);
    };
    await write(random, 15);
    await until('the board is right', shows);
    link.down = true;
    link.cutAll();
    await page.getByText('No connection').waitFor();
    await write(random, 10);
    link.down = false;
    await until('it is right after the break', shows, 120_000);
    await browser.close();
  });

  it("receiver.py keeps a copy by a hook, with Python's standard library", async () => {
    const directory = temporaryDirectory();
    directories.push(directory);
    const file = join(directory.path, 'copy.json');
    const port = await freePort();
    const hook = { name: 'copy', collection: 'balloons', url: `http://127.0.0.1:${port}/` };
    const made = await service.request('POST', '/v1/hooks', hook);
    const start = (secret: string) =>
      run('python3', [join(RECIPES, 'receiver.py'), String(port), file], { UPROAR_SECRET: secret });
    const copy = () => {
      try {
        const known = JSON.parse(readFileSync(file, 'utf8')) as Record<string, { data: unknown }>;
        const present = Object.entries(known).filter(([, { data }]) => data !== null);
        return canonicalText(Object.fromEntries(present.map(([id, { data }]) => [id, data])) as never);
      } catch {
        return undefined;
      }
    };
    const isRight = async () => {
      const documents = JSON.parse(await held()) as Record<string, { id: string; data: unknown }>;
      const wanted = Object.values(documents).map(({ id, data }) => [`balloons/${id}`, data]);
      return copy() === canonicalText(Object.fromEntries(wanted) as never);
    };
    const random = new Random(8);
    const first = start(made.json.secret as string);
    await write(random, 20);
    await until('the copy is right', isRight, 60_000);
    process.kill(-first.pid!, 'SIGKILL');
    children.splice(children.indexOf(first), 1);
    await write(random, 10);
    start(made.json.secret as string);
    await until('it is right after a restart of the receiver', isRight, 60_000);
    const forged = await fetch(`http://127.0.0.1:${port}/`, {
      method: 'POST',
      headers: {
        'webhook-id': 'x',
        'webhook-timestamp': String(Math.floor(Date.now() / 1000)),
        'webhook-signature': 'v1,x',
      },
      body: '{"subject":"balloons/bl-1","seq":99999,"data":{"after":null}}',
    });
    expect(forged.status).to.equal(401);
  });

  it('tickets are good once, for a GET, for half a minute', async () => {
    const { status, json } = await service.request('POST', '/v1/tickets');
    expect(status).to.equal(201);
    await service.request('PUT', '/v1/data/a/b', {});
    const use = async (ticket: string, method = 'GET') => {
      const response = await fetch(`${service.url}/v1/data/a/b?ticket=${ticket}`, { method });
      return [response.status, ((await response.json()) as { type?: string }).type];
    };
    expect(await use(json.ticket as string)).to.deep.equal([200, undefined]);
    expect(await use(json.ticket as string)).to.deep.equal([401, '/problems/ticket-invalid']);
    expect((await use('wrong'))[0]).to.equal(401);
    const other = (await service.request('POST', '/v1/tickets')).json.ticket as string;
    expect((await use(other, 'DELETE'))[0]).to.equal(401);
    expect((await fetch(`${service.url}/v1/tickets`, { method: 'POST' })).status).to.equal(401);
  });
});
