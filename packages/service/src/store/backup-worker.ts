import { createHash } from 'node:crypto';
import { createReadStream, statSync } from 'node:fs';
import { pipeline } from 'node:stream/promises';
import { once } from 'node:events';
import { parentPort, workerData } from 'node:worker_threads';
import Database from 'better-sqlite3';
import { packContents } from './packed-contents.js';
import { isToEnd } from './store-thread.js';

/** What the thread of a backup reports, in this order. */
export type BackupMessage =
  | { loaded: true }
  | { began: true }
  | { copied: number }
  | { hashing: true }
  | { ready: { seq: number; sizeBytes: number; sha256: string } };

/** Pages copied at a time. */
const PAGES_AT_ONCE = 1000;

/** Runs in a separate thread: copies a store at the state at which it began, while others write. */
const { file, copy, directory, stop } = workerData as {
  file: string;
  copy: string;
  directory: string;
  stop: Int32Array;
};
const report = (message: BackupMessage) => parentPort!.postMessage(message);

const source = new Database(file, { readonly: true });
report({ loaded: true });
// The state to copy must be on disk, so the store says when.
await once(parentPort!, 'message');
source.exec('BEGIN');
source.prepare('SELECT place FROM log').get();
report({ began: true });
await source.backup(copy, {
  progress: ({ totalPages, remainingPages }) => {
    if (isToEnd(stop)) throw new Error('The backup was removed.');
    if (totalPages > 0) report({ copied: 1 - remainingPages / totalPages });
    return PAGES_AT_ONCE;
  },
});
source.exec('COMMIT');
source.close();
await packContents(copy, directory, () => isToEnd(stop));
const seq = makeSelfContained(copy);
report({ hashing: true });
const hash = createHash('sha256');
await pipeline(createReadStream(copy), hash);
report({ ready: { seq, sizeBytes: statSync(copy).size, sha256: hash.digest('hex') } });
parentPort!.close();

/** Makes the copy one file that needs no other beside it. Returns the seq it holds. */
function makeSelfContained(path: string): number {
  const made = new Database(path);
  try {
    made.pragma('journal_mode = DELETE');
    return made.prepare<[], number>('SELECT COALESCE(MAX(seq), 0) FROM commits').pluck().get()!;
  } finally {
    made.close();
  }
}
