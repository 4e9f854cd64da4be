import { readdirSync, readFileSync, statfsSync } from 'node:fs';
import type { MetricsReport } from '@uproar/protocol';

/** What the service runs on: room on the disk of a directory, and how many files may be open. */
export function describeMachine(directory: string): MetricsReport['machine'] {
  const { bavail, blocks, bsize } = statfsSync(directory);
  return {
    node: process.version,
    platform: `${process.platform} ${process.arch}`,
    diskFreeBytes: bavail * bsize,
    diskBytes: blocks * bsize,
    openFiles: read(() => readdirSync('/proc/self/fd').length),
    openFilesLimit: read(() => {
      const limit = /^Max open files\s+(\d+)/m.exec(readFileSync('/proc/self/limits', 'utf8'))?.[1];
      return limit === undefined ? null : Number(limit);
    }),
  };
}

/** Available on Linux only. */
function read(find: () => number | null): number | null {
  try {
    return find();
  } catch {
    return null;
  }
}
