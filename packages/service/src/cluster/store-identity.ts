import { existsSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type Database from 'better-sqlite3';
import { claimDirectory, databaseFile, openDatabase } from '../store/index.js';
import type { Founding } from './etcd-log.js';

/** Which log a store belongs to, and how far it has come in it. */
export interface StoreIdentity {
  store: string;
  generation: string;
  place: number;
  hash: string;
  revision: number;
  /** Whether it cannot be used any more, so that a copy of another node's store is needed. */
  unfit: boolean;
  /** The cluster it is part of; without its secret if that is not in the data directory. */
  cluster: (Omit<Founding, 'secret'> & { secret: string | undefined }) | undefined;
}

const READ = `
  SELECT (SELECT value FROM store WHERE name = 'id') AS store, generation, place, hash, revision,
    (SELECT value FROM local WHERE name = 'cluster') AS cluster,
    EXISTS (SELECT 1 FROM local WHERE name = 'cluster-copy') AS unfit
  FROM log`;

/**
 * Reads which log the store in a data directory belongs to, after bringing it to the present format. Undefined if there is
 * no store.
 *
 * @throws {StoreError} when it cannot be opened
 */
export function identifyStore(directory: string): StoreIdentity | undefined {
  if (!existsSync(databaseFile(directory))) return undefined;
  const release = claimDirectory(directory);
  let database: Database.Database | undefined;
  try {
    database = openDatabase(directory);
    const row = database
      .prepare<[], Omit<StoreIdentity, 'cluster' | 'unfit'> & { cluster: string | null; unfit: number }>(READ)
      .get()!;
    const cluster =
      row.cluster === null
        ? undefined
        : { ...(JSON.parse(row.cluster) as Omit<Founding, 'secret'>), secret: readSecret(directory) };
    return { ...row, unfit: row.unfit === 1, cluster };
  } finally {
    database?.close();
    release();
  }
}

/** Keeps the secret of the cluster beside the store, so that no backup has it. */
export function keepSecret(directory: string, secret: string): void {
  writeFileSync(secretFile(directory), secret, { mode: 0o600 });
}

export function forgetSecret(directory: string): void {
  rmSync(secretFile(directory), { force: true });
}

function readSecret(directory: string): string | undefined {
  return existsSync(secretFile(directory)) ? readFileSync(secretFile(directory), 'utf8') : undefined;
}

function secretFile(directory: string): string {
  return join(directory, 'cluster-secret');
}
