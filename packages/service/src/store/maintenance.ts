import { statSync } from 'node:fs';
import type Database from 'better-sqlite3';
import type { IdempotencyRecords } from './idempotency-records.js';
import type { Reader } from './reader.js';
import type { StorageHealth } from './storage-health.js';
import type { JournalRetention } from './retention.js';

/** How often the store is looked after, in milliseconds. */
const INTERVAL_MS = 10_000;

/** The write-ahead log is brought back to nothing when it has grown beyond this, which only long reads make it do. */
const MAX_LOG_BYTES = 256 * 1024 * 1024;

/** How long a read may then continue, in milliseconds. */
const READ_GRACE_MS = 10_000;

/** What a store's care works with. */
export interface MaintenanceOptions {
  file: string;
  database: Database.Database;
  reader: Reader;
  idempotencyRecords: IdempotencyRecords;
  cutter: JournalRetention;
  health: StorageHealth;
  maxLogBytes?: number;
}

/**
 * Looks after a store while it is open: cuts the journal, deletes expired idempotency records, and keeps the
 * write-ahead log within bounds; each in small steps between which others are served.
 *
 * @returns stops it
 */
export function startMaintenance(options: MaintenanceOptions): () => void {
  const { database, reader, idempotencyRecords, cutter, file, health } = options;
  let pause: NodeJS.Immediate | undefined;
  const turn = () => {
    pause = undefined;
    try {
      const now = Date.now();
      if (cutter.step(now) || idempotencyRecords.forgetOld(now)) pause = setImmediate(turn);
    } catch (error) {
      // A full or failing disk: the next turn tries again.
      if (!health.note(error) && !String((error as { code?: unknown }).code).startsWith('SQLITE_')) throw error;
    }
  };
  const look = () => {
    if (!pause) turn();
    if (logSize(file) > (options.maxLogBytes ?? MAX_LOG_BYTES)) {
      void reader.interrupt(READ_GRACE_MS, () => database.pragma('wal_checkpoint(TRUNCATE)'));
    }
  };
  const timer = setInterval(look, INTERVAL_MS).unref();
  turn();
  return () => {
    clearInterval(timer);
    if (pause) clearImmediate(pause);
  };
}

/** The bytes of the write-ahead log beside a SQLite file. */
export function logSize(file: string): number {
  return statSync(`${file}-wal`, { throwIfNoEntry: false })?.size ?? 0;
}
