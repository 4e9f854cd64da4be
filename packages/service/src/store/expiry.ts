import { ProblemError } from '@uproar/protocol';
import type { Log } from '../log/log.js';
import type { Collections } from './collections.js';
import type { Reads } from './reads.js';
import type { StorageHealth } from './storage-health.js';

/** How often it is looked for documents that have ended, in milliseconds. */
const INTERVAL_MS = 500;

/** Documents that one commit ends, so that others need not wait long. */
const AT_ONCE = 100;

const ENDED = 'SELECT collection, id FROM documents WHERE expires <= ? ORDER BY expires LIMIT ?';
const LATEST = 'SELECT time FROM log';

/** Who makes the commits that end documents. */
const EXPIRY_AUTHOR = { kind: 'expiry', name: '' } as const;

/** What documents are ended with. */
export interface ExpiryParts {
  reads: Reads;
  log: Log;
  collections: Collections;
  health: StorageHealth;
  /** Whether this process does it. */
  isInCharge: () => boolean;
}

/**
 * Deletes documents that have ended, by ordinary commits of a hundred each, one after another. A document whose end was moved
 * meanwhile stays.
 *
 * @returns stops it
 */
export function startExpiry(parts: ExpiryParts): () => void {
  let stopped = false;
  let running = false;
  const run = async () => {
    if (running || !parts.isInCharge()) return;
    running = true;
    try {
      while (!stopped && (await endSome(parts)));
    } catch (error) {
      // A full or failing disk, a queue that is full, or a store that is being closed: the next turn tries again.
      if (!(error instanceof ProblemError) && !parts.health.note(error)) throw error;
    } finally {
      running = false;
    }
  };
  const timer = setInterval(() => void run(), INTERVAL_MS).unref();
  return () => {
    stopped = true;
    clearInterval(timer);
  };
}

/** Ends some documents. Resolves with true when there may be more. */
async function endSome({ reads, log, collections }: ExpiryParts): Promise<boolean> {
  // Another node's clock may be ahead; the time in the log is the latest of all.
  const timeMs = Math.max(Date.now(), reads.values<[], number>(LATEST).get() ?? 0);
  const ended = reads.statement<[number, number], { collection: number; id: string }>(ENDED).all(timeMs, AT_ONCE);
  if (ended.length === 0) return false;
  await log.append({
    timeMs,
    author: EXPIRY_AUTHOR,
    writes: ended.map(({ collection, id }) => ({
      kind: 'delete',
      collection: collections.nameOf(collection),
      id,
      ifExpired: true,
    })),
  });
  return ended.length === AT_ONCE;
}
