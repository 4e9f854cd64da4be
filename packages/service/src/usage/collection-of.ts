import { isCollectionName } from '@uproar/core';

/** The collection that all writes are to; an empty text if they are to several, or are no writes. */
export function collectionOf(writes: readonly unknown[] = []): string {
  let found: string | undefined;
  for (const write of Array.isArray(writes) ? writes : []) {
    const collection = namedBy(write as Record<string, unknown> | null);
    found ??= collection;
    if (collection === undefined || collection !== found) return '';
  }
  return found ?? '';
}

/** The collection in the address of a write. */
function namedBy(write: Record<string, unknown> | null): string | undefined {
  const { create, put, merge, patch, adjust, delete: removed } = write ?? {};
  const address = create ?? put ?? merge ?? patch ?? adjust ?? removed;
  if (typeof address !== 'string') return undefined;
  const [name] = address.split('/', 1) as [string];
  return isCollectionName(name) ? name : undefined;
}
