import { mkdirSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { ServedProcess } from '../test/served-process.js';
import { SlowDisk } from '../test/slow-disk/slow-disk.js';
import { KEY as SERVED_KEY } from '../test/service.js';
import { Listener, percentile, type Row } from './harness.js';

const DELAY_MS = 60;
const WRITERS = 64;
const MEASURED_MS = 8000;
const HEADERS = { authorization: `Bearer ${SERVED_KEY}` };

interface Latencies {
  read: number[];
  call: number[];
  commitsForEachSync: number;
}

/** Reads and calls while 64 writers write, with syncs that take 60 ms longer, compared with the same without. */
export async function benchSlowDisk(): Promise<Row[]> {
  const [plain, slow] = [await measure(0), await measure(DELAY_MS)];
  const row = (what: string, ours: number, bare: number, most: number): Row => ({
    benchmark: 'slow-disk',
    what: `${what} while ${WRITERS} writers write, with syncs that take ${DELAY_MS} ms longer, compared with the same without`,
    ours,
    bare,
    unit: 'ms',
    ratio: ours / bare,
    aim: `at most ${most} ms more`,
    reached: ours - bare <= most,
  });
  return [
    row('p50 of a read', percentile(slow.read, 0.5), percentile(plain.read, 0.5), 1),
    row('p95 of a read', percentile(slow.read, 0.95), percentile(plain.read, 0.95), 5),
    row('p50 of a call over the WebSocket', percentile(slow.call, 0.5), percentile(plain.call, 0.5), 1),
    row('p95 of a call over the WebSocket', percentile(slow.call, 0.95), percentile(plain.call, 0.95), 5),
    {
      benchmark: 'slow-disk',
      what: 'commits that share a sync then',
      ours: slow.commitsForEachSync,
      bare: plain.commitsForEachSync,
      unit: 'commits',
      ratio: slow.commitsForEachSync / plain.commitsForEachSync,
      aim: 'at least 10',
      reached: slow.commitsForEachSync >= 10,
    },
  ];
}

async function measure(delayMs: number): Promise<Latencies> {
  const workspace = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  const disk = new SlowDisk(workspace, delayMs);
  mkdirSync(join(workspace, 'data'));
  const served = await ServedProcess.start(join(workspace, 'data'), 0, [], disk.environment);
  const open = () => Listener.open(served.url, '/v1/live', HEADERS);
  const writers = await Promise.all(Array.from({ length: WRITERS }, open));
  const [reader, caller] = [await open(), await open()];
  await reader.call('commit', { writes: [{ put: 'known/one', data: { n: 1 } }] });
  const endMs = performance.now() + MEASURED_MS;
  let commits = 0;
  const syncs = disk.syncs;
  const writing = writers.map(async (listener, writer) => {
    for (let n = 0; performance.now() < endMs; n++) {
      await listener.call('commit', { writes: [{ put: `load/${writer}-${n % 50}`, data: { n } }] });
      commits++;
      // Without a slow disk, as many commits are written as with one, so that only the disk differs.
      if (delayMs === 0) await new Promise((resolve) => setTimeout(resolve, DELAY_MS));
    }
  });
  const read: number[] = [];
  const call: number[] = [];
  while (performance.now() < endMs) {
    let started = performance.now();
    const response = await fetch(`${served.url}/v1/data/known/one`, { headers: HEADERS });
    await response.text();
    read.push(performance.now() - started);
    started = performance.now();
    await caller.call('unwatch', { watch: 'none' });
    call.push(performance.now() - started);
    await new Promise((resolve) => setTimeout(resolve, 5));
  }
  await Promise.all(writing);
  const commitsForEachSync = commits / Math.max(1, disk.syncs - syncs);
  for (const { socket } of [...writers, reader, caller]) socket.terminate();
  await served.stop('SIGKILL');
  rmSync(workspace, { recursive: true, force: true });
  return { read, call, commitsForEachSync };
}
