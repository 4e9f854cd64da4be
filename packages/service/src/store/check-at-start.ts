import { fork } from 'node:child_process';
import { statSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import type Database from 'better-sqlite3';
import { findDamage } from './find-damage.js';
import { StoreError } from './store-error.js';

/** A file up to this size is checked before the store is served; a larger one meanwhile, in a process of its own. */
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
  // A thread could not be ended in the middle, so a service with a large store would take long to stop.
  const checker = fork(fileURLToPath(new URL('./check-process.js', import.meta.url)), [file], {
    execArgv: [],
    stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
  });
  checker.unref();
  checker.channel?.unref();
  checker.on('message', ({ damage }: { damage?: string }) => {
    if (damage !== undefined) onDamage(damage);
  });
  // What keeps the check from running shows in the reads and writes of the store as well.
  checker.on('error', () => undefined);
  return () => void checker.kill('SIGKILL');
}
