/**
 * Checks the calculator of docs/sizing.md: `npm run bench -- sizing` runs three loads and prints what was computed and what was
 * measured.
 */
import { readdirSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { estimate, MEASURED, type Load } from '../docs/calculator/model.js';
import { BenchServer, openMany, sleep } from './harness.js';
import { HttpLane } from './http-lane.js';
import { makeBalloon } from './query.js';

const MEASURE_MS = 15_000;
const CREWS = 200;

interface Trial {
  name: string;
  documents: number;
  devices: number;
  /** Whether each device watches a crew of its own; otherwise all watch one query. */
  own: boolean;
  writers: number;
  commits: number;
  queries: number;
}

/** The costs were fitted to other loads. */
const TRIALS: readonly Trial[] = [
  { name: 'a board', documents: 5000, devices: 1500, own: false, writers: 2, commits: 25, queries: 0 },
  {
    name: 'crews with their own views',
    documents: 30_000,
    devices: 400,
    own: true,
    writers: 30,
    commits: 150,
    queries: 100,
  },
  {
    name: 'many devices, few changes',
    documents: 60_000,
    devices: 3000,
    own: false,
    writers: 4,
    commits: 5,
    queries: 50,
  },
];

/** Does something at a rate, each time with the next of several. */
async function atRate<Lane>(lanes: readonly Lane[], perS: number, act: (lane: Lane, n: number) => Promise<unknown>) {
  const begun = performance.now();
  let done = 0;
  await Promise.all(
    lanes.map(async (lane, first) => {
      for (let n = first; ; n += lanes.length) {
        const due = (n * 1000) / perS;
        if (due > MEASURE_MS) return;
        await sleep(Math.max(0, due - (performance.now() - begun)));
        await act(lane, n);
        done++;
      }
    }),
  );
  return done;
}

function sizeOf(directory: string): number {
  return readdirSync(directory, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile() && entry.name.endsWith('.sqlite'))
    .reduce((sum, { parentPath, name }) => sum + statSync(join(parentPath, name)).size, 0);
}

async function run(trial: Trial) {
  const server = await BenchServer.start('uproar');
  const writers = await openMany(trial.writers, server.url, '/v1/live');
  for (let part = 0; part < trial.documents; part += 500) {
    const writes = Array.from({ length: Math.min(500, trial.documents - part) }, (_, n) => {
      const { id, data } = makeBalloon(part + n, CREWS);
      return { put: `balloons/${id}`, data };
    });
    await writers[0]!.call('commit', { writes });
  }
  const admin = await HttpLane.open(server.url);
  const status = await admin.send(
    'POST',
    '/v1/indexes',
    JSON.stringify({ collection: 'balloons', fields: 'crewId,-altitude' }),
  );
  if (status >= 300) throw new Error(`The index was answered with ${status}: ${String(admin.body)}`);
  let device = 0;
  const listeners = await openMany(trial.devices, server.url, '/v1/live', (listener) => {
    const where = trial.own ? `crewId = 'c-${device++ % CREWS}'` : "crewId = 'c-1'";
    return listener.call('watch', { query: { from: 'balloons', where, limit: 'none' } });
  });
  const lanes = await Promise.all(Array.from({ length: trial.queries > 0 ? 8 : 0 }, () => HttpLane.open(server.url)));
  await sleep(3000);
  const bytesBefore = listeners.reduce((sum, { bytes }) => sum + bytes, 0);
  const before = await server.usage();
  const begun = performance.now();
  const [commits, queries] = await Promise.all([
    atRate(writers, trial.commits, (writer, n) => {
      // With one query for all, each change is one that all see.
      const id = trial.own ? (n * 17) % trial.documents : 1 + CREWS * (n % Math.floor(trial.documents / CREWS));
      return writer.call('commit', { writes: [{ merge: `balloons/bl-${id}`, data: { altitude: n } }] });
    }),
    trial.queries === 0
      ? 0
      : atRate(lanes, trial.queries, (lane, n) =>
          lane.send('GET', `/v1/data/balloons?where=crewId%3D%27c-${n % CREWS}%27&order=-altitude&limit=20`, ''),
        ),
  ]);
  const seconds = (performance.now() - begun) / 1000;
  await sleep(500);
  const after = await server.usage();
  const bytes = listeners.reduce((sum, listener) => sum + listener.bytes, 0) - bytesBefore;
  const documentBytes = JSON.stringify(makeBalloon(1000, CREWS).data).length;
  const load: Load = {
    devices: trial.devices,
    watchersPerChange: trial.own ? trial.devices / CREWS : trial.devices,
    views: trial.own ? Math.min(trial.devices, CREWS) : 1,
    commits: commits / seconds,
    queries: queries / seconds,
    documents: trial.documents,
    documentBytes,
    // The journal is counted apart, since it begins with the load.
    journalDays: 0,
  };
  const measured = {
    cpu: (after.cpuMs - before.cpuMs) / 1000 / seconds,
    memoryMb: (await server.memory()).residentBytes / 1e6,
    sentKbPerS: bytes / 1000 / seconds,
    diskMb: sizeOf(server.directory) / 1e6,
  };
  const computed = estimate(load);
  for (const { socket } of [...writers, ...listeners]) socket.terminate();
  for (const lane of [...lanes, admin]) lane.close();
  await server.stop();
  return { load, measured, computed };
}

const show = (number: number) => (number >= 100 ? Math.round(number).toLocaleString('en') : number.toPrecision(2));
const row = (name: string, what: string, computed: number, measured: number) =>
  `| ${name} | ${what} | ${show(computed)} | ${show(measured)} | ${Math.round(100 * (computed / measured - 1))}% |`;

console.log('| load | | computed | measured | error |\n|---|---|---|---|---|');
for (const trial of TRIALS) {
  const { measured, computed, load } = await run(trial);
  // The first writes are in the journal, too.
  const changes = trial.documents + (load.commits * MEASURE_MS) / 1000;
  const journal = changes * (load.documentBytes + MEASURED.bytes.change);
  const withoutQueries = estimate({ ...load, queries: 0 });
  console.log(row(trial.name, 'CPU, cores', computed.cpu, measured.cpu));
  console.log(row(trial.name, 'memory, MB', computed.memoryBytes / 1e6, measured.memoryMb));
  console.log(row(trial.name, 'disk, MB', (computed.diskBytes + journal) / 1e6, measured.diskMb));
  console.log(row(trial.name, 'sent to watchers, kB/s', withoutQueries.sentBytesPerS / 1000, measured.sentKbPerS));
}
process.exit(0);
