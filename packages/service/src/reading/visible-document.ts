import { sees, seesEverything, withoutFields, type Access } from '@uproar/core';
import { findStored, readStored, stringifyStored, type Store, type StoredDocument } from '../store/index.js';

/** A document as it is now, as JSON text and as a caller sees it; undefined if there is none, or it may not be read. */
export function findSeenDocument(store: Store, access: Access, collection: string, id: string): string | undefined {
  const stored = findStored(store, collection, id);
  return stored && seenDocument(stored, access);
}

/** A stored document as JSON text, as a caller sees it; undefined if it may not be read. */
export function seenDocument(stored: StoredDocument, access: Access): string | undefined {
  if (seesEverything(access)) return stringifyStored(stored);
  const document = readStored(stored);
  return sees(access, document) ? JSON.stringify(withoutFields(document, access.conceal)) : undefined;
}
