import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { ServedProcess } from '../test/served-process.js';
import { KEY as SERVED_KEY } from '../test/service.js';
import { Listener, percentile, writeUntil, type Row } from './harness.js';

const DOCUMENTS = 100_000;
const FILLED_AT_ONCE = 5000;
/** The store ends as many in one commit. */
const DELETED_AT_ONCE = 100;
/** The documents are written within this time, and end behind it, in milliseconds. */
const FILLED_WITHIN_MS = 40_000;
const HEADERS = { authorization: `Bearer ${SERVED_KEY}` };

/** Another client may wait so long while documents end, in milliseconds. */
const AIM_MS = 100;
/** How long the other client is measured without it, in milliseconds. */
const QUIET_MS = 5000;

/** A hundred thousand documents that end at once: how long it takes, and how long a write of another client takes meanwhile. */
export async function benchExpiry(): Promise<Row[]> {
  const workspace = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  const served = await ServedProcess.start(workspace, 0);
  const [writer, other, looker] = [
    await Listener.open(served.url, '/v1/live', HEADERS),
    await Listener.open(served.url, '/v1/live', HEADERS),
    await Listener.open(served.url, '/v1/live', HEADERS),
  ];
  const quiet = await writeUntil(other, (ms) => ms > QUIET_MS);
  const put = (id: string, end: object) => ({ put: id, data: { text: 'a note that lasts for a while' }, ...end });
  const fill = async (collection: string, end: object) => {
    for (let from = 0; from < DOCUMENTS; from += FILLED_AT_ONCE) {
      const writes = Array.from({ length: FILLED_AT_ONCE }, (_, n) => put(`${collection}/d-${from + n}`, end));
      await writer.call('commit', { writes });
    }
  };
  await fill('deleted', {});
  const deletingMs = performance.now();
  for (let from = 0; from < DOCUMENTS; from += DELETED_AT_ONCE) {
    const writes = Array.from({ length: DELETED_AT_ONCE }, (_, n) => ({ delete: `deleted/d-${from + n}` }));
    await writer.call('commit', { writes });
  }
  const deletedMs = performance.now() - deletingMs;
  const endsMs = Date.now() + FILLED_WITHIN_MS;
  await fill('ending', { expires: new Date(endsMs).toISOString() });
  if (Date.now() > endsMs) throw new Error('The documents took too long to write.');
  await new Promise((resolve) => setTimeout(resolve, endsMs - Date.now()));
  const endingMs = performance.now();
  let left = 1;
  const watching = (async () => {
    while (left > 0) {
      const answer = await looker.call('query', { from: 'ending', limit: 1 });
      const { result } = JSON.parse(answer) as { result: { documents: unknown[] } };
      left = result.documents.length;
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
  })();
  const busy = await writeUntil(other, () => left === 0);
  await watching;
  const tookMs = performance.now() - endingMs;
  for (const listener of [writer, other, looker]) listener.socket.close();
  await served.stop('SIGTERM');
  rmSync(workspace, { recursive: true });
  const [ours, bare] = [percentile(busy, 0.99), percentile(quiet, 0.99)];
  return [
    {
      benchmark: 'expiry',
      what: `p99 of a write of another client while ${DOCUMENTS.toLocaleString('en')} documents end, compared with the same without`,
      ours,
      bare,
      unit: 'ms',
      ratio: ours / bare,
      aim: `at most ${AIM_MS} ms`,
      reached: ours <= AIM_MS,
    },
    {
      benchmark: 'expiry',
      what: `${DOCUMENTS.toLocaleString('en')} documents end, compared with deleting as many in commits of 100`,
      ours: tookMs / 1000,
      bare: deletedMs / 1000,
      unit: 's',
      ratio: tookMs / deletedMs,
      aim: 'stated',
      reached: true,
    },
  ];
}
