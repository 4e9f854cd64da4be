import { randomBytes } from 'node:crypto';
import { claimDirectory, openDatabase, StoreError } from '../store/index.js';
import { forgetSecret } from './store-identity.js';

/**
 * Takes the store of a data directory out of its cluster. It goes on alone, with everything that it has; the log of the
 * cluster has no place for it any more.
 *
 * @returns the last commit that it has
 * @throws {StoreError} `in-use`, or `cluster-refused` if it is in no cluster
 */
export function detachStore(directory: string): { seq: number } {
  const release = claimDirectory(directory);
  try {
    const database = openDatabase(directory);
    try {
      database.pragma('synchronous = FULL');
      const removed = database.prepare("DELETE FROM local WHERE name = 'cluster'").run().changes;
      if (removed === 0) {
        throw new StoreError('cluster-refused', `The store in ${directory} is not part of a cluster.`);
      }
      forgetSecret(directory);
      database.prepare('UPDATE log SET generation = ?, revision = 0').run(randomBytes(12).toString('base64url'));
      return { seq: database.prepare<[], number>('SELECT COALESCE(MAX(seq), 0) FROM commits').pluck().get()! };
    } finally {
      database.close();
    }
  } finally {
    release();
  }
}
