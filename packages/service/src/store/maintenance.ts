import { statSync } from 'node:fs';
import { ProblemError } from '@uproar/protocol';
import type { Log } from '../log/log.js';
import type { Checkpoints } from './checkpoints.js';
import type { Reader } from './reader.js';
import type { Reads } from './reads.js';
import type { Rewrites } from './rewrites.js';
import type { StorageHealth } from './storage-health.js';
import type { JournalRetention } from './retention.js';

/** How long the outcome of a commit with an id is kept, in milliseconds. */
export const IDEMPOTENCY_MS = 24 * 3_600_000;

/** Idempotency records deleted in one transaction. */
const EXPIRED_AT_ONCE = 500;

/** Idempotency records that are looked at in one transaction for an erasure. */
const ERASED_AT_ONCE = 2000;

/** An erasure that has not ended in this time was left by a process that ended, in milliseconds. */
const LEFT_MS = 60_000;

const LEFT_ERASURE = `
  SELECT id, collection FROM erasures WHERE outcomes_upto IS NOT NULL AND time < ? ORDER BY time LIMIT 1`;
const OLDEST_OUTCOME = 'SELECT MIN(time) FROM outcomes';

/** How often the store is looked after, in milliseconds. */
const INTERVAL_MS = 10_000;

/** The write-ahead log is brought back to nothing when it has grown beyond this, which only long reads make it do. */
const MAX_LOG_BYTES = 256 * 1024 * 1024;

/** How long a read may then continue, in milliseconds. */
const READ_GRACE_MS = 10_000;

/** What maintenance works with. */
export interface MaintenanceOptions {
  file: string;
  checkpoints: Checkpoints;
  reader: Reader;
  reads: Reads;
  log: Log;
  retention: JournalRetention;
  health: StorageHealth;
  rewrites: Pick<Rewrites, 'run'>;
  /** Whether this process cuts the journal and removes what has expired. */
  isInCharge: () => boolean;
  maxLogBytes?: number;
}

/**
 * Looks after a store while it is open: cuts the journal, deletes expired idempotency records, and keeps the
 * write-ahead log within bounds; each in small steps between which others are served.
 *
 * @returns stops it
 */
export function startMaintenance(options: MaintenanceOptions): () => void {
  const { checkpoints, reader, file } = options;
  let stopped = false;
  let running = false;
  const run = async () => {
    if (running || !options.isInCharge()) return;
    running = true;
    const steps = [stepRetention, stepOutcomes, stepErasures];
    for (let at = 0; at < steps.length && !stopped;) {
      if (!(await tryStep(steps[at]!, options))) at++;
      await new Promise((resolve) => setImmediate(resolve));
    }
    running = false;
  };
  const look = () => {
    void run();
    void options.rewrites.run();
    if (logSize(file) > (options.maxLogBytes ?? MAX_LOG_BYTES)) {
      void reader.interrupt(READ_GRACE_MS, () => checkpoints.reset());
    }
  };
  const timer = setInterval(look, INTERVAL_MS).unref();
  void run();
  return () => {
    stopped = true;
    clearInterval(timer);
  };
}

type Step = (options: MaintenanceOptions, nowMs: number) => Promise<boolean>;

const stepRetention: Step = ({ retention }, nowMs) => retention.step(nowMs);
const stepOutcomes: Step = ({ reads, log }, nowMs) => expireOutcomes(reads, log, nowMs);

const stepErasures: Step = async ({ reads, log }, nowMs) => {
  const left = reads.statement<[number], { id: string; collection: string }>(LEFT_ERASURE).get(nowMs - LEFT_MS);
  if (left) await eraseOutcomes(log, left.id, left.collection);
  return left !== undefined;
};

/** Does one step. Resolves with true when there may be more to do. */
async function tryStep(step: Step, options: MaintenanceOptions): Promise<boolean> {
  try {
    return await step(options, Date.now());
  } catch (error) {
    // A full or failing disk, or a store that is being closed: the next turn tries again.
    if (!(error instanceof ProblemError) && !options.health.note(error)) throw error;
    return false;
  }
}

/** Deletes some expired idempotency records. Resolves with true when there may be more. */
export async function expireOutcomes(reads: Reads, log: Log, nowMs: number): Promise<boolean> {
  const beforeMs = nowMs - IDEMPOTENCY_MS;
  const oldest = reads.values<[], number | null>(OLDEST_OUTCOME).get() ?? Infinity;
  if (oldest >= beforeMs) return false;
  const record = { kind: 'idempotency-expired', timeMs: nowMs, beforeMs, limit: EXPIRED_AT_ONCE } as const;
  return (await log.propose(record)).more;
}

/** Looks at some idempotency records for an erasure. Resolves with true when there are more. */
export async function eraseOutcomes(log: Pick<Log, 'propose'>, erasure: string, collection: string): Promise<boolean> {
  const timeMs = Date.now();
  return (await log.propose({ kind: 'idempotency-erased', timeMs, erasure, collection, limit: ERASED_AT_ONCE })).more;
}

/** The bytes of the write-ahead log beside a SQLite file. */
export function logSize(file: string): number {
  return statSync(`${file}-wal`, { throwIfNoEntry: false })?.size ?? 0;
}
