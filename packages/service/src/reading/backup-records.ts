import { formatTime, type Author } from '@uproar/core';
import type { BackupRecord } from '@uproar/protocol';
import { formatIdentity } from '../identity/identity.js';
import type { Store } from '../store/index.js';

/** A backup that was made, as it is stored. */
interface BackupRow {
  id: string;
  time: number;
  author: string;
  seq: number;
  sizeBytes: number;
  sha256: string;
}

const BACKUPS = `
  SELECT id, time, author, seq, size_bytes AS sizeBytes, sha256 FROM backups
  WHERE seq >= ? AND seq < ? ORDER BY time DESC LIMIT ?`;

/** As many backups as the store remembers. */
export const MOST_BACKUPS = 1000;

/** Backups that were made of states from one seq on and before another, the newest first. */
export function listBackups(
  reads: Store['reads'],
  { from, before }: { from: number; before: number },
  limit: number,
): BackupRecord[] {
  return reads
    .statement<[number, number, number], BackupRow>(BACKUPS)
    .all(from, before, limit)
    .map(({ author, time, ...rest }) => ({
      ...rest,
      time: formatTime(time),
      identity: formatIdentity(JSON.parse(author) as Author),
    }));
}
