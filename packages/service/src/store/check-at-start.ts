import { statSync } from 'node:fs';
import { Worker } from 'node:worker_threads';
import type Database from 'better-sqlite3';
import { findDamage } from './find-damage.js';
import { StoreError } from './store-error.js';

/** A file up to this size is checked before the store is served; a larger one meanwhile, in a thread of its own. */
const CHECK_AT_ONCE_BYTES = 32 * 1024 * 1024;

/**
 * Checks the structure of a store file.
 *
 * @param onDamage called with damage that is found later
 * @returns stops the check
 * @throws {StoreError} `damaged`, if that is known at once
 */
export function checkAtStart(
  file: string,
  database: Database.Database,
  onDamage: (detail: string) => void,
): () => void {
  if (statSync(file).size <= CHECK_AT_ONCE_BYTES) {
    const damage = findDamage(database);
    if (damage === undefined) return () => undefined;
    throw new StoreError('damaged', `${file} is damaged (${damage}). Restore a backup with uproar restore.`);
  }
  const worker = new Worker(new URL('./check-worker.js', import.meta.url), { workerData: { file } });
  worker.unref();
  worker.on('message', (damage: string | undefined) => {
    if (damage !== undefined) onDamage(damage);
  });
  // What keeps the check from running shows in the reads and writes of the store as well.
  worker.on('error', () => undefined);
  return () => void worker.terminate();
}
