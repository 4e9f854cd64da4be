import { randomBytes } from 'node:crypto';
import {
  closeSync,
  createReadStream,
  createWriteStream,
  existsSync,
  fsyncSync,
  openSync,
  renameSync,
  rmSync,
  statSync,
} from 'node:fs';
import { join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import Database from 'better-sqlite3';
import { claimDirectory } from './lock.js';
import { databaseFile, prepareDirectory } from './open-database.js';
import { unpackContents } from './packed-contents.js';
import { StoreError } from './store-error.js';

/** How a backup is brought back. */
export interface RestoreOptions {
  /** Put a store that is there already aside. */
  replace?: boolean | undefined;
  /** It goes on as the same store: on another node of its cluster. Otherwise it becomes a store of its own. */
  sameStore?: boolean | undefined;
  onProgress?: (copiedBytes: number, totalBytes: number) => void;
}

/**
 * Creates a store from a backup, in a data directory that no service has open. By default the store gets a new id, so that
 * clients start again instead of resuming from a seq that this store does not have.
 *
 * @returns the new place of the previous store, if there was one
 * @throws {StoreError} `in-use`, `no-access`, or `exists` when there is a store that may not be replaced
 */
export async function restoreBackup(
  backup: string,
  directory: string,
  options: RestoreOptions = {},
): Promise<string | undefined> {
  prepareDirectory(directory);
  const release = claimDirectory(directory);
  const file = databaseFile(directory);
  const part = join(directory, 'restore.part');
  try {
    if (existsSync(file) && !options.replace) {
      throw new StoreError(
        'exists',
        `${directory} contains a store already. Choose another directory, or replace the store with --replace.`,
      );
    }
    const totalBytes = statSync(backup).size;
    let copiedBytes = 0;
    const input = createReadStream(backup);
    input.on('data', (piece) => options.onProgress?.((copiedBytes += piece.length), totalBytes));
    await pipeline(input, createWriteStream(part));
    await unpackContents(part, directory);
    if (!options.sameStore) rename(part);
    sync(part);
    const before = existsSync(file) ? putAside(file) : undefined;
    renameSync(part, file);
    sync(directory);
    return before;
  } finally {
    rmSync(part, { force: true });
    release();
  }
}

/** Gives a store another name. */
function rename(file: string): void {
  const database = new Database(file);
  database.pragma('synchronous = FULL');
  const name = () => randomBytes(12).toString('base64url');
  database.prepare("UPDATE store SET value = ? WHERE name = 'id'").run(name());
  // A backup of an earlier format has no log yet.
  const hasLog = database.prepare("SELECT 1 FROM sqlite_schema WHERE name = 'log'").get() !== undefined;
  if (hasLog) {
    database.prepare("UPDATE log SET place = 0, hash = '', generation = ?").run(name());
    database.prepare("DELETE FROM local WHERE name = 'cluster'").run();
  }
  // The store that the backup was made of may go on, and delivers the same changes.
  const hasHooks = database.prepare("SELECT 1 FROM sqlite_schema WHERE name = 'hooks'").get() !== undefined;
  if (hasHooks) {
    const paused = { timeMs: Date.now(), reason: 'The store was restored from a backup.' };
    database.prepare('UPDATE hooks SET paused = ? WHERE paused IS NULL').run(JSON.stringify(paused));
    database.prepare('DELETE FROM deliveries').run();
  }
  database.close();
}

/** Brings a store that is closed into one file, under a name that nothing opens. */
function putAside(file: string): string {
  const database = new Database(file);
  try {
    database.pragma('wal_checkpoint(TRUNCATE)');
    database.pragma('journal_mode = DELETE');
  } finally {
    database.close();
  }
  const aside = `${file}.before-${new Date().toISOString().replace(/[:.]/g, '-')}`;
  renameSync(file, aside);
  return aside;
}

function sync(path: string): void {
  const descriptor = openSync(path, 'r');
  fsyncSync(descriptor);
  closeSync(descriptor);
}
