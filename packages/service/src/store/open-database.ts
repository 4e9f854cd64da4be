import { accessSync, constants, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import Database from 'better-sqlite3';
import { MIGRATIONS } from './migrations/index.js';
import { StoreError } from './store-error.js';

/** Marks a SQLite file as a store of ours: the letters "Uprr". */
export const APPLICATION_ID = 0x55707272;

/** The SQLite file in a data directory. */
export function databaseFile(directory: string): string {
  return join(directory, 'uproar.sqlite');
}

/**
 * Makes sure the data directory is there and can be written to.
 *
 * @throws {StoreError} `no-access`
 */
export function prepareDirectory(directory: string): void {
  try {
    mkdirSync(directory, { recursive: true, mode: 0o700 });
    accessSync(directory, constants.R_OK | constants.W_OK | constants.X_OK);
  } catch (error) {
    throw new StoreError(
      'no-access',
      `The data directory ${directory} cannot be written to (${(error as NodeJS.ErrnoException).code ?? String(error)}). ` +
        'Correct its owner or mode, or choose another directory with --data.',
      { cause: error },
    );
  }
}

/**
 * Opens the SQLite file of a store for writing and brings it to the present format. Syncing the write-ahead log is left
 * to the caller.
 *
 * @throws {StoreError} when the file is no store, is damaged, or was written by a newer version
 */
export function openDatabase(directory: string): Database.Database {
  const file = databaseFile(directory);
  let database: Database.Database;
  try {
    database = new Database(file);
    database.pragma('journal_mode = WAL');
  } catch (error) {
    throw explain(error, file);
  }
  try {
    // Commits are synced by the log, in the background; NORMAL leaves only the syncs of a log that begins anew.
    database.pragma('synchronous = NORMAL');
    database.pragma('wal_autocheckpoint = 0');
    database.pragma('foreign_keys = ON');
    database.pragma('temp_store = MEMORY');
    database.pragma('cache_size = -65536');
    database.pragma('journal_size_limit = 67108864');
    migrate(database, file);
    return database;
  } catch (error) {
    database.close();
    throw explain(error, file);
  }
}

function migrate(database: Database.Database, file: string): void {
  const format = database.pragma('user_version', { simple: true }) as number;
  const application = database.pragma('application_id', { simple: true }) as number;
  const tables = database.prepare('SELECT COUNT(*) FROM sqlite_schema').pluck().get() as number;
  if (application !== APPLICATION_ID && tables > 0) {
    throw new StoreError(
      'not-a-store',
      `${file} is a SQLite file, but not an Uproar store. Choose another directory with --data.`,
    );
  }
  if (format > MIGRATIONS.length) {
    throw new StoreError(
      'newer-format',
      `${file} was written by a newer version of Uproar (format ${format}; this version supports ${MIGRATIONS.length}). Install the newer version.`,
    );
  }
  for (let number = format; number < MIGRATIONS.length; number++) {
    database.transaction(() => {
      database.exec(MIGRATIONS[number]!);
      database.pragma(`user_version = ${number + 1}`);
      database.pragma(`application_id = ${APPLICATION_ID}`);
    })();
  }
}

function explain(error: unknown, file: string): unknown {
  if (!(error instanceof Database.SqliteError)) return error;
  if (error.code === 'SQLITE_NOTADB' || error.code.startsWith('SQLITE_CORRUPT')) {
    return new StoreError('damaged', `${file} is damaged or not a SQLite file (${error.message}). Restore a backup.`, {
      cause: error,
    });
  }
  if (error.code.startsWith('SQLITE_CANTOPEN') || error.code.startsWith('SQLITE_READONLY')) {
    return new StoreError(
      'no-access',
      `${file} cannot be opened for writing (${error.message}). Correct its mode or owner.`,
      {
        cause: error,
      },
    );
  }
  return error;
}
