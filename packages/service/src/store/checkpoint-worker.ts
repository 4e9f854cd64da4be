import { parentPort, workerData } from 'node:worker_threads';
import Database from 'better-sqlite3';

/**
 * Runs in a separate thread: moves the write-ahead log into the SQLite file. `copy` does it while others write; `reset`
 * also empties the log, while no other connection reads or writes. `rewrite` writes all that is stored anew first, so that
 * nothing is left of what was deleted.
 */
const { file } = workerData as { file: string };
const database = new Database(file, { timeout: 0 });
database.pragma('synchronous = FULL');
database.pragma('wal_autocheckpoint = 0');

const pageBytes = database.pragma('page_size', { simple: true }) as number;

/** What SQLite reports: pages in the log, and those of them that are in the file. */
interface Checkpointed {
  busy: number;
  log: number;
  checkpointed: number;
}

/** The first write after a reset syncs the header of the log, which must not happen on the event loop. */
const TOUCH = `
  INSERT INTO local (name, value) VALUES ('log-reset', '1')
  ON CONFLICT (name) DO UPDATE SET value = CAST(value AS INTEGER) + 1`;

parentPort!.on('message', (what: 'copy' | 'reset' | 'rewrite' | 'end') => {
  if (what === 'end') {
    database.close();
    parentPort!.close();
    return;
  }
  try {
    if (what === 'rewrite') database.exec('VACUUM');
    const mode = what === 'copy' ? 'PASSIVE' : 'TRUNCATE';
    const [{ busy, log, checkpointed }] = database.pragma(`wal_checkpoint(${mode})`) as [Checkpointed];
    if (what !== 'copy' && busy === 0) database.exec(TOUCH);
    parentPort!.postMessage({ busy: busy !== 0, leftBytes: (log - checkpointed) * pageBytes });
  } catch (error) {
    parentPort!.postMessage({ error: { message: (error as Error).message, code: (error as { code?: string }).code } });
  }
});
