import { isCollectionName } from '@uproar/core';

/** The collection that all writes are to; an empty text if they are to several, or are no writes. */
export function collectionOf(writes: readonly unknown[] = []): string {
  if (!Array.isArray(writes)) return '';
  const found = namedBy(addressIn(writes[0]));
  if (found === undefined) return '';
  const isThere = (write: unknown) => {
    const address = addressIn(write);
    return address === found || address?.startsWith(`${found}/`);
  };
  return writes.every(isThere) ? found : '';
}

/** The address of a write. */
function addressIn(write: unknown): string | undefined {
  const { create, put, merge, patch, adjust, delete: removed } = (write ?? {}) as Record<string, unknown>;
  const address = create ?? put ?? merge ?? patch ?? adjust ?? removed;
  return typeof address === 'string' ? address : undefined;
}

/** The collection in an address. */
function namedBy(address: string | undefined): string | undefined {
  const name = address?.split('/', 1)[0];
  return name !== undefined && isCollectionName(name) ? name : undefined;
}
