/**
 * A long run with devices that come, watch, write, read slowly and go: `npm run soak` for an hour, `npm run soak -- --minutes 2`
 * for a short one. Ends with an error unless memory, open files and the bytes held for connections stay flat.
 */
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, ProblemError, type Store } from '@uproar/client';
import { Random } from '../test/random.js';
import { ServedProcess } from '../test/served-process.js';
import { KEY } from '../test/service.js';
import { Listener, sleep } from './harness.js';

const minutes = Number(process.argv[process.argv.indexOf('--minutes') + 1] || 60);
const seed = Number(process.env.SOAK_SEED ?? 1);
const IDS = 2000;
const DEVICES = 40;
/** How much more the last quarter may need than the second. */
const TOLERANCE = 1.2;

/** SQLite keeps so much of the store's file in memory, at most, in bytes. The file grows by the idempotency records of a day. */
const PAGE_CACHE = 64 * 1024 * 1024;

interface Sample {
  /** Resident memory beside what SQLite keeps of the file. */
  rss: number;
  heap: number;
  files: number;
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

async function measure(): Promise<Sample> {
  const text = await (await fetch(`${served.url}/metrics`, { headers })).text();
  const read = (name: string) => Number(new RegExp(`^${name} (\\S+)$`, 'm').exec(text)?.[1]);
  return {
    rss: read('process_resident_memory_bytes') - Math.min(PAGE_CACHE, read('uproar_store_bytes')),
    heap: read('nodejs_heap_size_used_bytes'),
    files: read('process_open_fds'),
  };
}

/** Writes all the time: to the same documents, so that the stored size stays the same. */
async function write(store: Store): Promise<void> {
  const balloons = store.collection('balloons');
  while (!ended) {
    const id = `bl-${random.integer(0, IDS - 1)}`;
    const data = {
      name: id,
      status: random.pick(['aloft', 'landed']),
      altitude: random.integer(0, 3000),
      crewId: `c-${random.integer(0, 40)}`,
    };
    try {
      if (random.chance(0.1)) await balloons.delete(id);
      else if (random.chance(0.02))
        await store.files.upload(new Blob([`${id} ${random.integer(0, 1e9)}`]), {
          id: `file-${random.integer(0, 50)}`,
          name: 'a',
        });
      else await balloons.put(id, data);
      writes++;
    } catch (error) {
      // The document may not have existed.
      if (error instanceof ProblemError && error.problem.type.endsWith('/no-such-document')) continue;
      if (faults++ === 0) console.log(String(error));
    }
    await sleep(5);
  }
}

/** A device comes, watches a few things, reads slowly now and then, and goes, politely or not. */
async function live(): Promise<void> {
  while (!ended) {
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
const busy = [write(store), write(store), ...Array.from({ length: DEVICES }, live)];
const samples: Sample[] = [];
const started = Date.now();
const lengthMs = minutes * 60_000;
const everyMs = Math.max(500, lengthMs / 400);
let reported = started;
while (Date.now() - started < lengthMs) {
  await sleep(everyMs);
  const sample = await measure();
  samples.push(sample);
  if (Date.now() - reported < Math.max(15_000, lengthMs / 20)) continue;
  reported = Date.now();
  const { rss, heap, files } = sample;
  console.log(
    `${Math.round((reported - started) / 1000)} s: ${Math.round(rss / 1e6)} MB resident beside the page cache, ${Math.round(heap / 1e6)} MB heap, ${files} files open; ${writes} writes, ${lives} lives`,
  );
}
ended = true;
await Promise.all(busy);
store.close();

/** The middle of a quarter of the run, 1 to 4. The heap goes up and down with collections; its lowest values count. */
function middle(quarter: number, read: (sample: Sample) => number): number {
  const part = samples.slice(((quarter - 1) * samples.length) / 4, (quarter * samples.length) / 4).map(read);
  return part.sort((a, b) => a - b)[Math.floor(part.length / 4)]!;
}

await sleep(3000);
const left = (await (await fetch(`${served.url}/v1/connections`, { headers })).json()) as { total: number };
const idle = await measure();
const code = await served.stop('SIGTERM');

const verdicts = (['rss', 'heap', 'files'] as const).map((name) => {
  const [second, last] = [middle(2, (sample) => sample[name]), middle(4, (sample) => sample[name])];
  const flat = last <= second * TOLERANCE;
  console.log(
    `${name}: ${Math.round(second).toLocaleString('en')} in the second quarter, ${Math.round(last).toLocaleString('en')} in the last: ${flat ? 'flat' : 'GROWS'}`,
  );
  return flat;
});
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
