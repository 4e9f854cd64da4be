import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { ServedProcess } from '../test/served-process.js';
import { KEY as SERVED_KEY } from '../test/service.js';
import { Listener, openMany, percentile, writeUntil, type Row } from './harness.js';

const CONNECTIONS = 5000;
const GRACE_MS = 1000;
const HEADERS = { authorization: `Bearer ${SERVED_KEY}` };

/** Another client may wait so long while connections come and go, in milliseconds. */
const AIM_MS = 100;
const QUIET_MS = 5000;

/**
 * Five thousand connections with a document each that lives as long as they do: they come, go at once, and their documents go. How
 * long that takes, and how long a write of another client takes meanwhile.
 */
export async function benchPresence(): Promise<Row[]> {
  const workspace = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  const served = await ServedProcess.start(workspace, 0, [
    '--address-connections',
    '6000',
    '--presence-grace',
    `${GRACE_MS / 1000}s`,
  ]);
  const [other, looker] = [
    await Listener.open(served.url, '/v1/live', HEADERS),
    await Listener.open(served.url, '/v1/live', HEADERS),
  ];
  const quiet = await writeUntil(other, (ms) => ms > QUIET_MS);
  let done = false;
  const busy = writeUntil(other, () => done);
  const comingMs = performance.now();
  let next = 0;
  const listeners = await openMany(
    CONNECTIONS,
    served.url,
    '/v1/live',
    (listener) =>
      listener.call('commit', { writes: [{ put: `online/d-${next++}`, data: { crew: 'c-1' }, whileConnected: true }] }),
    HEADERS,
  );
  const cameMs = performance.now() - comingMs;
  const goingMs = performance.now();
  for (const { socket } of listeners) socket.terminate();
  for (let left = 1; left > 0; await new Promise((resolve) => setTimeout(resolve, 20))) {
    const { result } = JSON.parse(await looker.call('query', { from: 'online', limit: 1 })) as {
      result?: { documents: unknown[] };
    };
    left = result?.documents.length ?? left;
  }
  const wentMs = performance.now() - goingMs - GRACE_MS;
  done = true;
  const times = await busy;
  for (const { socket } of [other, looker]) socket.close();
  await served.stop('SIGTERM');
  rmSync(workspace, { recursive: true });
  const [ours, bare] = [percentile(times, 0.99), percentile(quiet, 0.99)];
  const row = (what: string, one: number, beside: number, unit: string, aim: string, reached: boolean): Row => ({
    benchmark: 'presence',
    what,
    ours: one,
    bare: beside,
    unit,
    ratio: one / beside,
    aim,
    reached,
  });
  const count = CONNECTIONS.toLocaleString('en');
  return [
    row(
      `p99 of a write of another client while ${count} connections come and go, compared with the same without`,
      ours,
      bare,
      'ms',
      `at most ${AIM_MS} ms`,
      ours <= AIM_MS,
    ),
    row(
      `${count} documents go with their connections, after the grace, compared with the time in which they came`,
      wentMs / 1000,
      cameMs / 1000,
      's',
      'stated',
      true,
    ),
  ];
}
