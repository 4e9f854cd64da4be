/**
 * A long run with devices that come, watch, read slowly and go, while others write as fast as they can: `npm run soak` for an
 * hour, `npm run soak -- --minutes 2` for a short one. Ends with an error unless memory, open files and the duration of writes
 * stay flat.
 */
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import Database from 'better-sqlite3';
import { connect, ProblemError, type Store } from '@uproar/client';
import { Random } from '../test/random.js';
import { ServedProcess } from '../test/served-process.js';
import { KEY } from '../test/service.js';
import { Listener, percentile, sleep } from './harness.js';

const minutes = Number(process.argv[process.argv.indexOf('--minutes') + 1] || 60);
const seed = Number(process.env.SOAK_SEED ?? 1);
const IDS = 2000;
const DEVICES = 40;
const WRITERS = 8;
/** How much more the last quarter may need than the second. A short run varies more. */
const TOLERANCE = minutes >= 20 ? 1.05 : 1.2;
/** Commits that are compared with bare ones at a time. */
const PROBES = 40;
/** How long the load pauses before the comparison, so that running calls can end; in milliseconds. */
const REST_MS = 100;
/** Documents that are there from the beginning, of about a kilobyte: more than SQLite keeps in memory, so that it is full. */
const OLD_DOCUMENTS = 100_000;

interface Sample {
  /** Resident memory. */
  rss: number;
  heap: number;
  files: number;
  /** p50 and p99 of the writes since the last sample, in milliseconds. */
  medianMs: number;
  slowMs: number;
  /** The duration of a commit while the load pauses, compared with a bare commit to a file on the same disk. */
  ratio: number;
  /** Writes a second since the sample before. */
  rate: number;
}

const directory = mkdtempSync(join(tmpdir(), 'uproar-soak-'));
const limits = ['--journal-size', '5MB', '--keep-deleted', '5s', '--log-level', 'error'];
// A small heap limit makes garbage collection frequent, so that a leak shows early.
const served = await ServedProcess.start(directory, 0, limits, {
  NODE_OPTIONS: '--max-old-space-size=128',
});
const random = new Random(seed);
// However it ends, nothing is left behind.
process.on('exit', () => {
  served.child.kill('SIGKILL');
  rmSync(directory, { recursive: true, force: true });
});
for (const signal of ['SIGTERM', 'SIGINT', 'SIGHUP'] as const) process.on(signal, () => process.exit(1));
let ended = false;
let writes = 0;
let lives = 0;
let faults = 0;

const headers = { authorization: `Bearer ${KEY}` };

/** How long the writes since the last sample took, in milliseconds. */
let taken: number[] = [];
let sampledMs = performance.now();

async function measure(): Promise<Sample> {
  const [latencies, seconds] = [taken, (performance.now() - sampledMs) / 1000];
  [taken, sampledMs] = [[], performance.now()];
  const text = await (await fetch(`${served.url}/metrics`, { headers })).text();
  const read = (name: string) => Number(new RegExp(`^${name} (\\S+)$`, 'm').exec(text)?.[1]);
  return {
    rss: read('process_resident_memory_bytes'),
    heap: read('nodejs_heap_size_used_bytes'),
    files: read('process_open_fds'),
    medianMs: percentile(latencies, 0.5),
    slowMs: percentile(latencies, 0.99),
    ratio: lastRatio,
    rate: latencies.length / seconds,
  };
}

const bare = new Database(join(directory, 'bare.db'));
bare.pragma('journal_mode = WAL');
bare.pragma('synchronous = FULL');
bare.exec('CREATE TABLE documents (id TEXT PRIMARY KEY, data TEXT)');
const replace = bare.prepare('REPLACE INTO documents VALUES (?, ?)');

/** Pauses the load until it resolves. */
let rest: Promise<unknown> = Promise.resolve();
let lastRatio = 0;

/** Compares commits with bare ones in turns, on a machine that is faster at some times than at others. */
async function compareCommits(store: Store): Promise<void> {
  const [ours, theirs]: [number[], number[]] = [[], []];
  for (let n = 0; n < PROBES; n++) {
    const data = { status: 'aloft', altitude: n };
    const started = performance.now();
    await store.collection('probes').put(`p-${n}`, data);
    const between = performance.now();
    replace.run(`p-${n}`, JSON.stringify(data));
    ours.push(between - started);
    theirs.push(performance.now() - between);
  }
  lastRatio = percentile(ours, 0.5) / percentile(theirs, 0.5);
}

/** Fills the store, and reads all of it once. */
async function fill(store: Store): Promise<void> {
  const note = 'The wind was light. '.repeat(45);
  for (let part = 0; part < OLD_DOCUMENTS; part += 1000) {
    await store.commit({
      writes: Array.from({ length: 1000 }, (_, n) => ({ put: `old/o-${part + n}`, data: { n: part + n, note } })),
    });
  }
  await store.collection('old').where`note LIKE ${'%storm%'}`.list();
}

/** Writes without a pause: to the same documents, so that the stored size stays the same. */
async function write(store: Store, writer: number): Promise<void> {
  const [balloons, old] = [store.collection('balloons'), store.collection('old')];
  while (!ended) {
    await rest;
    const id = `bl-${random.integer(0, IDS - 1)}`;
    const data = {
      name: id,
      status: random.pick(['aloft', 'landed']),
      altitude: random.integer(0, 3000),
      crewId: `c-${random.integer(0, 40)}`,
    };
    const started = performance.now();
    try {
      const kind = random.next();
      if (kind < 0.1) await balloons.delete(id);
      else if (kind < 0.2) await old.merge(`o-${random.integer(0, OLD_DOCUMENTS - 1)}`, { n: writes });
      else if (kind < 0.22)
        await store.files.upload(new Blob([`${id} ${random.integer(0, 1e9)}`]), {
          id: `file-${writer}-${random.integer(0, 5)}`,
          name: 'a',
        });
      else await balloons.put(id, data);
      writes++;
      taken.push(performance.now() - started);
    } catch (error) {
      // The document may not have existed.
      if (error instanceof ProblemError && error.problem.type.endsWith('/no-such-document')) continue;
      if (faults++ === 0) console.log(String(error));
    }
  }
}

/** A device comes, watches a few things, reads slowly now and then, and goes, politely or not. */
async function live(): Promise<void> {
  while (!ended) {
    await rest;
    lives++;
    const rough = random.chance(0.3);
    if (rough) {
      const listener = await Listener.open(served.url, '/v1/live', headers);
      await listener.call('watch', { query: { from: 'balloons', limit: 'none' } });
      listener.socket.pause();
      await sleep(random.integer(200, 3000));
      listener.socket.terminate();
    } else {
      const store = connect(served.url, { token: KEY });
      const watch = store.collection('balloons')
        .where`status = ${random.pick(['aloft', 'landed'])} AND altitude > ${random.integer(0, 2500)}`
        .order('-altitude')
        .limit(random.integer(1, 50))
        .watch();
      const totals = store.collection('balloons').summary('count(),max(altitude)', 'status').watch();
      const off = [watch.subscribe(() => undefined), totals.subscribe(() => undefined)];
      await sleep(random.integer(200, 4000));
      for (const stop of off) stop();
      store.close();
    }
  }
}

const store = connect(served.url, { token: KEY });
await store.post('/v1/indexes', { collection: 'balloons', fields: 'status,-altitude' });
await fill(store);
// Each writer has a connection of its own, as devices have.
const writers = Array.from({ length: WRITERS }, () => connect(served.url, { token: KEY }));
const busy = [...writers.map(write), ...Array.from({ length: DEVICES }, live)];
const samples: Sample[] = [];
const started = Date.now();
const lengthMs = minutes * 60_000;
const everyMs = Math.max(1500, lengthMs / 200);
let reported = started;
while (Date.now() - started < lengthMs) {
  await sleep(everyMs);
  rest = sleep(REST_MS).then(() => compareCommits(store));
  await rest;
  const sample = await measure();
  samples.push(sample);
  if (Date.now() - reported < Math.max(15_000, lengthMs / 20)) continue;
  reported = Date.now();
  const { rss, heap, files, medianMs, slowMs, ratio, rate } = sample;
  console.log(
    `${Math.round((reported - started) / 1000)} s: ${Math.round(rss / 1e6)} MB resident, ${Math.round(heap / 1e6)} MB heap, ${files} files open; ` +
      `${Math.round(rate)} writes a second, p50 ${medianMs.toFixed(1)} ms, p99 ${slowMs.toFixed(1)} ms, without load a commit takes ${ratio.toFixed(1)} times a bare one; ${writes} writes, ${lives} lives`,
  );
}
ended = true;
await Promise.all(busy);
for (const one of [store, ...writers]) one.close();

/** A value of a quarter of the run, 1 to 4, above this share of the others. */
function inQuarter(quarter: number, share: number, read: (sample: Sample) => number): number {
  const part = samples.slice(((quarter - 1) * samples.length) / 4, (quarter * samples.length) / 4);
  return percentile(part.map(read), share);
}

await sleep(3000);
const left = (await (await fetch(`${served.url}/v1/connections`, { headers })).json()) as { total: number };
const idle = await measure();
const code = await served.stop('SIGTERM');

const shown = (value: number) => value.toLocaleString('en', { maximumFractionDigits: 2 });
const compare = (what: string, share: number, read: (sample: Sample) => number): boolean => {
  const [second, last] = [inQuarter(2, share, read), inQuarter(4, share, read)];
  const flat = last <= second * TOLERANCE;
  console.log(
    `${what}: ${shown(second)} in the second quarter, ${shown(last)} in the last: ${flat ? 'flat' : 'GROWS'}`,
  );
  return flat;
};
// Memory goes up and down with collections of garbage; its low values count.
const verdicts = [
  compare('resident memory, MB', 0.25, ({ rss }) => rss / 1e6),
  compare('heap, MB', 0.25, ({ heap }) => heap / 1e6),
  compare('open files', 0.25, ({ files }) => files),
  compare('a commit without load, compared with a bare one', 0.5, ({ ratio }) => ratio),
];
compare('p50 of the writes, ms (stated)', 0.5, ({ medianMs }) => medianMs);
compare('p99 of the writes, ms (stated)', 0.5, ({ slowMs }) => slowMs);
const emptied = left.total === 0 && idle.files <= samples[0]!.files;
console.log(
  `when all had gone: ${left.total} connections, ${idle.files} files open; exit code ${code}; ${faults} writes failed`,
);
if (!verdicts.every(Boolean) || !emptied || code !== 0 || faults > 0) {
  console.log('The soak run failed.');
  process.exit(1);
}
console.log(`The soak run passed: ${minutes} min, ${writes} writes, ${lives} devices that came and went.`);
process.exit(0);
