import { readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import Database from 'better-sqlite3';
import { StoreError } from './store-error.js';

/**
 * Claims a data directory for this process. The claim is a lock that the operating system holds on a small
 * SQLite file, so the operating system releases it when the process ends. `owner.json` beside it names the owner, for people.
 *
 * @throws {StoreError} `in-use` when another process has the store
 * @returns gives the claim up
 */
export function claimDirectory(directory: string): () => void {
  const ownerFile = join(directory, 'owner.json');
  const lock = new Database(join(directory, 'lock'), { timeout: 0 });
  try {
    lock.exec('BEGIN EXCLUSIVE');
  } catch (error) {
    lock.close();
    if (!isLocked(error)) throw error;
    throw new StoreError(
      'in-use',
      `Another process${describeOwner(ownerFile)} has the store in ${directory} open. ` +
        'Stop it first, or give this one a directory of its own with --data.',
    );
  }
  writeFileSync(ownerFile, JSON.stringify({ pid: process.pid, since: new Date().toISOString() }) + '\n');
  return () => {
    rmSync(ownerFile, { force: true });
    lock.close();
  };
}

function isLocked(error: unknown): boolean {
  return error instanceof Database.SqliteError && error.code.startsWith('SQLITE_BUSY');
}

function describeOwner(ownerFile: string): string {
  try {
    const owner = JSON.parse(readFileSync(ownerFile, 'utf8')) as { pid?: unknown; since?: unknown };
    return ` (process ${String(owner.pid)}, since ${String(owner.since)})`;
  } catch {
    return '';
  }
}
