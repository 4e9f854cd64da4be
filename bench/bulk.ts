import { spawn } from 'node:child_process';
import { createWriteStream, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { once } from 'node:events';
import Database from 'better-sqlite3';
import { openStore } from '@uproar/service';
import { BenchServer, KEY, peakOf, percentile, sleep, type Row } from './harness.js';
import { drive, HttpLane } from './http-lane.js';

const DOCUMENTS = Number(process.env.BENCH_DOCUMENTS ?? 1_000_000);
const CLI = new URL('../packages/cli/dist/bundled/main.js', import.meta.url).pathname;

const dataOf = (n: number) => ({
  name: `balloon ${n}`,
  status: 'aloft',
  altitude: (n * 7919) % 3000,
  fuel: n % 100,
  crewId: `c-${n % 1000}`,
});

/** Commits of 100 documents over HTTP, and the import of a million, compared with a loop that writes the same rows. */
export async function benchBulk(): Promise<Row[]> {
  return [await commits(), ...(await importMany())];
}

async function commits(): Promise<Row> {
  const before = bareLoop(100, 150_000);
  const server = await BenchServer.start('uproar');
  const lanes = await Promise.all(Array.from({ length: 8 }, () => HttpLane.open(server.url)));
  const bodies = Array.from({ length: 200 }, (_, part) => {
    const writes = Array.from({ length: 100 }, (_, n) => ({
      put: `bulk/d-${part}-${n}`,
      data: dataOf(part * 100 + n),
    }));
    return JSON.stringify({ writes });
  });
  const post = (lane: HttpLane, n: number) =>
    // Ids of its own for every commit, so that each inserts as the bare loop does.
    lane.send('POST', '/v1/commits', bodies[n % 200]!.replaceAll('/d-', `/d-${Math.floor(n / 200)}-`));
  await drive(lanes, 1000, post);
  const { latencies, seconds, statuses } = await drive(lanes, 5000, post);
  if ([...statuses.keys()].some((status) => status !== 200)) throw new Error('A commit was refused.');
  for (const lane of lanes) lane.close();
  await server.stop();
  const ours = (latencies.length * 100) / seconds;
  // The speed of the machine varies, so the faster one of two counts.
  const bare = Math.max(before, bareLoop(100, 150_000));
  return row(
    'commits of 100 documents over HTTP, 8 connections, compared with a loop of better-sqlite3 with the same rows',
    ours,
    bare,
    0.8,
  );
}

async function importMany(): Promise<Row[]> {
  const directory = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  const file = join(directory, 'balloons.ndjson');
  const out = createWriteStream(file);
  for (let n = 0; n < DOCUMENTS; n++) {
    if (!out.write(JSON.stringify({ id: `bl-${n}`, ...dataOf(n) }) + '\n')) await once(out, 'drain');
  }
  out.end();
  await once(out, 'finish');
  const before = bareLoop(250, DOCUMENTS);
  const server = await BenchServer.start('uproar');
  const importer = spawn(process.execPath, [CLI, 'import', 'balloons', file, '--url', server.url, '--key', KEY], {
    stdio: ['ignore', 'ignore', 'inherit'],
  });
  let ended = false;
  const exit = once(importer, 'exit').then(([code]) => ((ended = true), code as number));
  const start = performance.now();
  const lanes = await Promise.all(Array.from({ length: 8 }, () => HttpLane.open(server.url)));
  const latencies: number[] = [];
  let peakBytes = 0;
  let importerPeakBytes = 0;
  const probes = lanes.map(async (lane, number) => {
    for (let n = 0; !ended; n++) {
      const begun = performance.now();
      await lane.send('PUT', `/v1/data/small/s-${number}`, JSON.stringify({ n }));
      latencies.push(performance.now() - begun);
      await sleep(50);
    }
  });
  const watch = setInterval(() => {
    peakBytes = Math.max(peakBytes, server.peakBytes);
    importerPeakBytes = Math.max(importerPeakBytes, peakOf(importer.pid!));
  }, 250);
  const code = await exit;
  const seconds = (performance.now() - start) / 1000;
  clearInterval(watch);
  await Promise.all(probes);
  for (const lane of lanes) lane.close();
  await server.stop();
  rmSync(directory, { recursive: true, force: true });
  if (code !== 0) throw new Error('The import failed.');
  const bare = Math.max(before, bareLoop(250, DOCUMENTS));
  const memory = `peak memory ${mebibytes(peakBytes)} MiB, of the importing process ${mebibytes(importerPeakBytes)} MiB`;
  return [
    row(
      `import of ${DOCUMENTS} documents by the command line (${memory}), compared with a loop of better-sqlite3`,
      DOCUMENTS / seconds,
      bare,
      0.8,
    ),
    {
      benchmark: 'write',
      what: `p99 of a PUT while that import runs, compared with its p50 (longest ${Math.max(...latencies).toFixed(0)} ms)`,
      ours: percentile(latencies, 0.99),
      bare: percentile(latencies, 0.5),
      unit: 'ms',
      ratio: percentile(latencies, 0.99) / percentile(latencies, 0.5),
      aim: 'stated',
      reached: true,
    },
  ];
}

function row(what: string, ours: number, bare: number, aim: number): Row {
  return {
    benchmark: 'bulk',
    what,
    ours,
    bare,
    unit: 'documents per second',
    ratio: ours / bare,
    aim: `at least ${aim}`,
    reached: ours / bare >= aim,
  };
}

const mebibytes = (bytes: number) => Math.round(bytes / 1024 / 1024);

/** Writes the rows of a commit of this many documents, with full sync. Returns documents per second. */
function bareLoop(perCommit: number, documents: number): number {
  const directory = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  openStore(directory).close();
  const database = new Database(join(directory, 'uproar.sqlite'));
  database.pragma('journal_mode = WAL');
  database.pragma('synchronous = FULL');
  database.pragma('cache_size = -65536');
  const document = database.prepare(
    'INSERT INTO documents (collection, id, version, created, updated, data) VALUES (1, ?, ?, ?, ?, ?)',
  );
  const commit = database.prepare(
    'INSERT INTO commits (seq, id, time, author, first_change) VALUES (?, NULL, ?, ?, ?)',
  );
  const change = database.prepare(
    'INSERT INTO changes (number, seq, collection, document, created_after, after) VALUES (?, ?, 1, ?, ?, ?)',
  );
  const start = performance.now();
  for (let n = 0, seq = 1; n < documents; n += perCommit, seq++) {
    database.transaction(() => {
      commit.run(seq, seq, '{"kind":"key","name":"bench"}', n + 1);
      for (let at = n; at < n + perCommit; at++) {
        const data = JSON.stringify(dataOf(at));
        document.run(`bl-${at}`, seq, seq, seq, data);
        change.run(at + 1, seq, `bl-${at}`, seq, data);
      }
    })();
  }
  const seconds = (performance.now() - start) / 1000;
  database.close();
  rmSync(directory, { recursive: true, force: true });
  return documents / seconds;
}
