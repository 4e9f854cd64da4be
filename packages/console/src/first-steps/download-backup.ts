import type { Store } from '@uproar/client';
import { saveFile } from '../actions/export-shown';

const ASK_EVERY_MS = 300;

interface Backup {
  id: string;
  state: 'copying' | 'hashing' | 'ready' | 'failed';
  seq?: number;
  sizeBytes?: number;
  reason?: string;
}

/** A larger backup is for the command line: the browser would hold all of it in memory. */
const MAX_BYTES = 500_000_000;

/** Makes a backup, and has the browser save it. */
export async function downloadBackup(store: Store): Promise<void> {
  let backup = await store.post<Backup>('/v1/backups', {});
  try {
    while (backup.state === 'copying' || backup.state === 'hashing') {
      await new Promise((resolve) => setTimeout(resolve, ASK_EVERY_MS));
      backup = await store.fetch<Backup>(`/v1/backups/${backup.id}`);
    }
    if (backup.state === 'failed') throw new Error(`The backup failed: ${backup.reason ?? 'unknown reason'}`);
    if (backup.sizeBytes! > MAX_BYTES) {
      throw new Error('The backup is too large for the browser. Use the command line: uproar backup my-store.sqlite');
    }
    const answer = await store.request('GET', `/v1/backups/${backup.id}/content`, undefined, 'application/vnd.sqlite3');
    saveFile(`uproar-${backup.seq}.sqlite`, await answer.blob());
  } finally {
    await store.request('DELETE', `/v1/backups/${backup.id}`).catch(() => undefined);
  }
}
