import { spawn, type ChildProcess } from 'node:child_process';
import type { BrowserContext, Page } from 'playwright-core';
import { connect, type Store } from '@uproar/client';
import { MAIN } from '../../../../test/command-run.js';
import { Random } from '../../../../test/random.js';
import { until } from '../../../../test/service.js';
import { keepMoving } from '../movement.js';
import { RandomUser } from './random-user.js';

const KEY = 'demo-key-0123456789';
const NOTES = 60;

/** What two random users did in two tabs of one browser. */
export interface WorkReport {
  done: Record<string, number>;
  missed: Record<string, number>;
  typed: number;
  faults: string[];
}

/** The lively demo, with a collection in which documents also change their places, are deleted and created again. */
export class LivelyStore {
  private constructor(
    private readonly demo: ChildProcess,
    readonly url: string,
    readonly store: Store,
    private readonly end: () => Promise<void>,
  ) {}

  static async start(seed: number): Promise<LivelyStore> {
    let said = '';
    const demo = spawn(process.execPath, [MAIN, 'demo', '--port', '0'], {
      env: { ...process.env, UPROAR_ADMIN_KEY: KEY, NODE_OPTIONS: '', NO_COLOR: '1' },
      stdio: ['ignore', 'pipe', 'inherit'],
    });
    demo.stdout!.on('data', (text) => (said += String(text)));
    await until('the festival is on', () => said.includes('Ctrl-C'), 120_000);
    const url = /http:\/\/[\d.:]+/.exec(said)![0];
    const store = connect(url, { token: KEY, device: 'others' });
    const writes = Array.from({ length: NOTES }, (_, n) => ({ put: `notes/n-${n}`, data: noteOf(n) }));
    await store.commit({ writes });
    const endMovement = keepMoving(store);
    const endShuffle = shuffle(store, new Random(seed));
    return new LivelyStore(demo, url, store, async () => {
      await endMovement();
      await endShuffle();
    });
  }

  /**
   * Lets two people work in two tabs for a while, and looks then for what they typed.
   *
   * @param time how long they work at least; they go on until each has begun `edits`, but at most `mostMs`
   */
  async work(
    context: BrowserContext,
    seed: number,
    time: { leastMs: number; mostMs?: number; edits?: number },
    listen: (page: Page) => void,
  ): Promise<WorkReport> {
    const collections = ['notes', 'balloons', 'crews', 'pads'];
    const users = await Promise.all(
      ['a', 'b'].map(async (name, index) => {
        const page = await context.newPage();
        listen(page);
        await page.goto(`${this.url}/console/data/notes#key=${KEY}`);
        await page.locator('[data-row]').first().waitFor();
        return { page, user: new RandomUser(page, new Random(seed * 2 + index), name, collections) };
      }),
    );
    const begun = Date.now();
    const { leastMs, mostMs = leastMs, edits = 0 } = time;
    await Promise.all(users.map(({ user }) => user.act(begun + leastMs, edits, begun + mostMs)));
    const report: WorkReport = { done: {}, missed: {}, typed: 0, faults: [] };
    for (const { page, user } of users) {
      // Waits for saves in flight.
      await page.waitForTimeout(1500);
      report.faults.push(
        ...user.faults,
        ...(await user.ledger.findLost(this.store, page)).map((one) => `Lost: ${one}`),
      );
      report.typed += user.ledger.entries.length;
      for (const [name, count] of user.done) report.done[name] = (report.done[name] ?? 0) + count;
      for (const [name, count] of user.missed) report.missed[name] = (report.missed[name] ?? 0) + count;
    }
    return report;
  }

  async stop(): Promise<void> {
    await this.end();
    this.store.close();
    const ended = new Promise((resolve) => this.demo.once('exit', resolve));
    this.demo.kill('SIGINT');
    await ended;
  }
}

function noteOf(n: number): { text: string; place: number; author: { name: string }; done: boolean } {
  return { text: `note ${n}`, place: n, author: { name: `crew ${n % 7}` }, done: n % 3 === 0 };
}

/** Others who work with the notes: they move them about, write the same fields, delete some and create them again. */
function shuffle(store: Store, random: Random): () => Promise<void> {
  let ended = false;
  const notes = store.collection('notes');
  const running = (async () => {
    const gone: number[] = [];
    while (!ended) {
      const n = random.integer(0, NOTES - 1);
      const what = random.next();
      const write: Promise<unknown> =
        what < 0.75
          ? notes.merge(`n-${n}`, { place: random.integer(0, NOTES) })
          : what < 0.9
            ? notes.merge(`n-${n}`, { author: { name: `crew ${random.integer(0, 99)}` } })
            : what < 0.94
              ? notes.delete(`n-${n}`).then(() => gone.push(n))
              : gone.length > 0
                ? notes.put(`n-${gone[0]}`, noteOf(gone.shift()!), { ifVersion: 0 })
                : Promise.resolve();
      await write.catch(() => undefined);
      await new Promise((resolve) => setTimeout(resolve, random.integer(20, 160)));
    }
  })();
  return async () => {
    ended = true;
    await running;
  };
}
