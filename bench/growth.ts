/** How cost grows with documents, queries, watchers, writes and more: `npm run growth`. Draws the plots of docs/benchmarks.md. */
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseOrder, prepareQuery } from '@uproar/core';
import { openStore } from '@uproar/service';
import { oneRun } from './fan-out.js';
import { growConnections, growJournal, growPolicies, growViews, type Point } from './growth-of-live.js';
import { BenchServer, percentile } from './harness.js';
import { drive, HttpLane } from './http-lane.js';
import { COUNTS, measureMatch } from './match.js';
import { CURVES, drawSvg } from './plot.js';
import { makeBalloon, openBare, rate } from './query.js';

interface Plot {
  name: string;
  title: string;
  x: string;
  y: string;
  measure: () => Promise<Point[]>;
}

const AUTHOR = { kind: 'key', name: 'bench' } as const;
const DOCUMENTS = [1000, 10_000, 100_000, 1_000_000];
const WATCHERS = [10, 100, 1000, 4000];
/** So few that each query finds as many as it asks for. */
const CREWS = 10;
const WRITERS = [1, 4, 16, 64, 256];

/** A query of 20 by an index, and a commit of one document, while there are more and more documents. */
async function growDocuments(): Promise<Point[]> {
  const directory = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  const store = openStore(directory);
  await store.indexes.create('balloons', parseOrder('crewId,-altitude'), 0);
  const { bare, insertAll, find } = openBare(directory);
  const put = (balloons: ReturnType<typeof makeBalloon>[]) =>
    store.log.append({
      timeMs: 0,
      author: AUTHOR,
      writes: balloons.map(({ id, data }) => ({ kind: 'put' as const, collection: 'balloons', id, data })),
    });
  const points: Point[] = [];
  let there = 0;
  for (const count of DOCUMENTS) {
    for (; there < count; there += 1000) {
      const balloons = Array.from({ length: 1000 }, (_, n) => makeBalloon(there + n, CREWS));
      await put(balloons);
      insertAll(balloons);
    }
    const query = prepareQuery({
      from: 'balloons',
      where: "crewId = 'c-7' AND altitude > 300",
      order: '-altitude',
      limit: 20,
    });
    points.push({ x: count, y: 1e6 / rate(() => store.reader.readAtOnce(query, 20)), curve: 'query of 20' });
    points.push({ x: count, y: 1e6 / rate(() => find.all('c-7', 300, 20)), curve: 'bare statement' });
    const times: number[] = [];
    for (let n = 0; n < 300; n++) {
      const started = performance.now();
      await put([makeBalloon((n * 7919) % count, CREWS)]);
      times.push(performance.now() - started);
    }
    points.push({ x: count, y: percentile(times, 0.5) * 1000, curve: 'commit of one, with sync' });
  }
  bare.close();
  store.close();
  rmSync(directory, { recursive: true, force: true });
  return points;
}

function growQueries(): Promise<Point[]> {
  return Promise.resolve(
    COUNTS.flatMap((x) => {
      const { matched, every } = measureMatch('mixed', x);
      return [
        { x, y: matched, curve: 'matcher' },
        { x, y: every(), curve: 'testing every query' },
      ];
    }),
  );
}

async function growWatchers(): Promise<Point[]> {
  const points: Point[] = [];
  for (const x of WATCHERS) {
    const ours = await oneRun(x, 'uproar');
    const bare = await oneRun(x, 'bare', ours.length);
    points.push({ x, y: ours.totalCpuUs / 300, curve: 'change, commit included' });
    points.push({ x, y: bare.totalCpuUs / 300, curve: 'bare sends' });
  }
  return points;
}

async function growWrites(): Promise<Point[]> {
  const points: Point[] = [];
  for (const x of WRITERS) {
    for (const [mode, curve] of [
      ['uproar', 'kept and synced'],
      ['checking', 'only checked and answered'],
    ] as const) {
      // A disk stalls now and then; the best of several rounds is what can be done.
      let best = 0;
      for (let round = 0; round < 3; round++) {
        const server = await BenchServer.start(mode);
        const lanes = await Promise.all(Array.from({ length: x }, () => HttpLane.open(server.url)));
        const put = (lane: HttpLane, n: number) =>
          lane.send('PUT', `/v1/data/balloons/bl-${n % 5000}`, JSON.stringify(makeBalloon(n).data));
        await drive(lanes, 1000, put);
        const { latencies, seconds } = await drive(lanes, 2500, put);
        best = Math.max(best, latencies.length / seconds);
        for (const lane of lanes) lane.close();
        await server.stop();
      }
      points.push({ x, y: best, curve });
    }
  }
  return points;
}

const PLOTS: Plot[] = [
  {
    name: 'documents',
    title: 'Cost with documents in the collection',
    x: 'documents',
    y: 'µs',
    measure: growDocuments,
  },
  {
    name: 'queries',
    title: 'Cost of finding the live queries of a commit',
    x: 'live queries that differ',
    y: 'µs',
    measure: growQueries,
  },
  {
    name: 'watchers',
    title: 'Server CPU of a change with its watchers',
    x: 'watchers of one query',
    y: 'µs',
    measure: growWatchers,
  },
  {
    name: 'writes',
    title: 'Writes per second with writers at a time',
    x: 'connections that write',
    y: 'writes per second',
    measure: growWrites,
  },
  {
    name: 'connections',
    title: 'Memory with idle connections',
    x: 'connections',
    y: 'MB',
    measure: growConnections,
  },
  {
    name: 'views',
    title: 'First result and change of a view',
    x: 'documents in the view',
    y: 'µs',
    measure: growViews,
  },
  {
    name: 'journal',
    title: 'Cost with changes in the journal',
    x: 'changes in the journal',
    y: 'µs',
    measure: growJournal,
  },
  {
    name: 'policies',
    title: 'Server CPU of a change with identities',
    x: 'connected identities, each with its own policy',
    y: 'µs',
    measure: growPolicies,
  },
];

/** Draws curves over axes that are both logarithmic, so that a cost in proportion is a straight line. */
function draw({ title, x, y }: Plot, values: Point[]): Promise<string> {
  const axis = { grid: true, format: '~s' };
  return drawSvg({
    title,
    width: 420,
    height: 240,
    data: { values },
    mark: { type: 'line', point: true },
    encoding: {
      x: { field: 'x', type: 'quantitative', title: x, scale: { type: 'log' }, axis },
      y: { field: 'y', type: 'quantitative', title: y, scale: { type: 'log' }, axis },
      color: {
        field: 'curve',
        type: 'nominal',
        title: null,
        sort: null,
        scale: { range: CURVES },
      },
      strokeDash: { field: 'curve', type: 'nominal', title: null, sort: null },
    },
  });
}

// The measurements are stored beside the plots; `npm run growth -- --draw` redraws the plots without measuring.
const wanted = process.argv.slice(2).filter((word) => word !== '--draw');
const onlyDraws = process.argv.includes('--draw');
const folder = new URL('../docs/plots/', import.meta.url).pathname;
const kept = join(folder, 'growth.json');
mkdirSync(folder, { recursive: true });
const results = (existsSync(kept) ? JSON.parse(readFileSync(kept, 'utf8')) : {}) as Record<string, Point[]>;
for (const plot of PLOTS) {
  if (wanted.length > 0 && !wanted.includes(plot.name)) continue;
  console.log(plot.title);
  const points = onlyDraws ? results[plot.name]! : await plot.measure();
  for (const { x, y, curve } of points) {
    console.log(`  ${String(x).padStart(9)}  ${y.toPrecision(3).padStart(9)} ${plot.y}  ${curve}`);
  }
  results[plot.name] = points;
  writeFileSync(kept, `${JSON.stringify(results, null, 2)}\n`);
  writeFileSync(join(folder, `growth-${plot.name}.svg`), `${await draw(plot, points)}\n`);
}
process.exit(0);
