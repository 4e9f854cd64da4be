import { join } from 'node:path';

/** Where a content lies within a folder of contents. */
export function contentPath(directory: string, sha256: string): string {
  if (!/^[0-9a-f]{64}$/.test(sha256)) throw new Error('This is not a hash.');
  return join(directory, sha256.slice(0, 2), sha256);
}
