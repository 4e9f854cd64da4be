/** How live queries, connections, identities and the journal cost more as there is more of them. */
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openStore, type Store } from '@uproar/service';
import { ByteBudget } from '../packages/service/dist/limits/byte-budget.js';
import { DEFAULT_BUDGETS } from '../packages/service/dist/limits/limits.js';
import { LiveWork } from '../packages/service/dist/limits/live-work.js';
import { LiveViews } from '../packages/service/dist/live/live-views.js';
import { MetricsRecorder } from '../packages/service/dist/metrics/metrics-recorder.js';
import { frameEvent } from '../packages/service/dist/websocket/encode-event.js';
import type { LiveEvent } from '../packages/service/dist/live/live-event.js';
import { EVERYBODY } from '../test/read-scope.js';
import { BenchServer, openMany, percentile, sleep, type Listener } from './harness.js';
import { connectIdentities, measureChange, openGoverned } from './policy.js';

/** A point of a curve: how much there was, and what it cost. */
export interface Point {
  x: number;
  y: number;
  curve: string;
}

const AUTHOR = { kind: 'key', name: 'bench' } as const;
/** As many as a process may open files here, at most. */
const CONNECTIONS = [1000, 5000, 10_000, Math.min(20_000, openFiles() - 300)];
const VIEW_SIZES = [1000, 10_000, 100_000, 1_000_000];
const CHANGES = [10_000, 100_000, 1_000_000, 10_000_000];
const IDENTITIES = [10, 100, 1000, 10_000];

/** The memory of a service with more and more idle connections, which watch one of ten queries. */
export async function growConnections(): Promise<Point[]> {
  const points: Point[] = [];
  for (const [mode, curve] of [
    ['uproar', 'connections that watch'],
    ['bare', 'bare connections'],
  ] as const) {
    for (const x of CONNECTIONS) {
      const server = await BenchServer.start(mode);
      const before = await server.memory();
      let last = 0;
      const watch = (listener: Listener) =>
        listener.call('watch', { query: { from: 'balloons', where: `crewId = 'c-${++last % 10}'` } });
      // The service keeps one for itself, which writes and asks.
      const path = mode === 'uproar' ? '/v1/live' : '/';
      const listeners = await openMany(x - 1, server.url, path, mode === 'uproar' ? watch : undefined);
      await sleep(1000);
      const after = await server.memory();
      points.push({ x, y: (after.usedBytes - before.usedBytes) / 1e6, curve });
      for (const { socket } of listeners) socket.terminate();
      await server.stop();
    }
  }
  return points;
}

/** The first result of larger and larger views, and a change to them. */
export async function growViews(): Promise<Point[]> {
  const points: Point[] = [];
  const { directory, store } = openEmpty();
  const budgets = { ...DEFAULT_BUDGETS, watchBytes: 1e9, identityBytes: 8e9, processBytes: 8e9 };
  const views = new LiveViews(store, new MetricsRecorder(), {
    bytes: new ByteBudget(budgets),
    liveWork: new LiveWork(budgets),
    watchBytes: budgets.watchBytes,
  });
  let there = 0;
  for (const x of VIEW_SIZES) {
    for (; there < x; there += 1000) await put(store, there, 1000);
    let received: ((event: LiveEvent) => void) | undefined;
    const sink = { full: false, send: (event: LiveEvent) => received?.(event) };
    const started = performance.now();
    const target = { query: { from: 'flights', limit: 'none' } } as const;
    const subscription = await new Promise<ReturnType<LiveViews['watch']>>((resolve, reject) => {
      const begun = views.watch(target, EVERYBODY, sink, undefined, () => setImmediate(() => resolve(begun)), reject);
    });
    points.push({ x, y: (performance.now() - started) * 1000, curve: 'first result' });
    const times: number[] = [];
    for (let n = 0; n < 300; n++) {
      const sent = new Promise<number>((resolve) => {
        const stop = store.log.onApplied(() => {
          stop();
          resolve(performance.now());
        });
      });
      let endedMs = 0;
      received = (event) => {
        event.encodedBy(frameEvent);
        endedMs = performance.now();
      };
      const begunMs = performance.now();
      await put(store, (n * 7919) % x, 1, n);
      await sent;
      times.push(endedMs - begunMs);
    }
    points.push({ x, y: percentile(times, 0.5) * 1000, curve: 'commit with its change' });
    subscription.stop();
  }
  views.close();
  close(store, directory);
  return points;
}

/** A resume after 100 commits and a page of the journal, while the journal has more and more changes. */
export async function growJournal(): Promise<Point[]> {
  const points: Point[] = [];
  const { directory, store } = openEmpty();
  const views = new LiveViews(store, new MetricsRecorder());
  let there = 0;
  for (const x of CHANGES) {
    for (; there < x; there += 10_000) {
      await Promise.all(Array.from({ length: 20 }, (_, n) => put(store, there + 500 * n, 500)));
    }
    const target = { query: { from: 'flights', where: 'altitude > 2998', limit: 'none' } } as const;
    const sink = { full: false, send: () => undefined };
    const first = await begin(views, target, sink, undefined);
    const resume = first.event.resume;
    first.subscription.stop();
    const { seq } = store.log;
    await Promise.all(Array.from({ length: 100 }, (_, n) => put(store, n, 1, x + n)));
    points.push({
      x,
      y: await medianUs(async () => (await begin(views, target, sink, resume)).subscription.stop()),
      curve: 'resume after 100 commits',
    });
    points.push({
      x,
      y: await medianUs(() => Promise.resolve(store.journal.after(seq, 100, 1e9))),
      curve: 'page of 100 commits',
    });
    points.push({ x, y: await medianUs(() => put(store, 7, 1, Math.random())), curve: 'commit of one, with sync' });
  }
  views.close();
  close(store, directory);
  return points;
}

/** The processor time of a change that one identity may see, while more and more are connected, each with a policy of its own. */
export async function growPolicies(): Promise<Point[]> {
  const server = await BenchServer.start('uproar');
  const store = await openGoverned(server);
  const points: Point[] = [];
  const all: Listener[] = [];
  for (const x of IDENTITIES) {
    all.push(...(await connectIdentities(server, x - all.length, 'flights', all.length)));
    const change = (n: number) => ({ path: 'flights', data: { owner: 'i-1', n } });
    points.push({ x, y: await measureChange(server, store, all, change, 1), curve: 'a change that one may see' });
  }
  store.close();
  for (const { socket } of all) socket.terminate();
  await server.stop();
  return points;
}

function openFiles(): number {
  return Number(/Max open files\s+(\d+)/.exec(readFileSync('/proc/self/limits', 'utf8'))![1]);
}

function openEmpty(): { directory: string; store: Store } {
  const directory = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  return { directory, store: openStore(directory) };
}

function close(store: Store, directory: string): void {
  store.close();
  rmSync(directory, { recursive: true, force: true });
}

function put(store: Store, first: number, count: number, note = 0): Promise<unknown> {
  return store.log.append({
    timeMs: 0,
    author: AUTHOR,
    writes: Array.from({ length: count }, (_, n) => ({
      kind: 'put' as const,
      collection: 'flights',
      id: `f-${first + n}`,
      data: { altitude: ((first + n) * 7919) % 3000, status: 'aloft', note },
    })),
  });
}

function begin(
  views: LiveViews,
  target: Parameters<LiveViews['watch']>[0],
  sink: Parameters<LiveViews['watch']>[2],
  resume: string | undefined,
): Promise<{ event: LiveEvent; subscription: ReturnType<LiveViews['watch']> }> {
  return new Promise((resolve, reject) => {
    const subscription: ReturnType<LiveViews['watch']> = views.watch(
      target,
      EVERYBODY,
      sink,
      resume,
      (event) => setImmediate(() => resolve({ event, subscription })),
      reject,
    );
  });
}

/** The median of 100 times, in microseconds. */
async function medianUs(act: () => Promise<unknown>): Promise<number> {
  const times: number[] = [];
  for (let n = 0; n < 100; n++) {
    const startedMs = performance.now();
    await act();
    times.push((performance.now() - startedMs) * 1000);
  }
  return percentile(times, 0.5);
}
