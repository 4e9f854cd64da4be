import { sees, seesEverything, withoutFields, type Access } from '@uproar/core';
import { readStored, stringifyStored, type StoredDocument } from '../store/index.js';

/** A stored document as JSON text, as a caller sees it; undefined if it may not be read. */
export function seenDocument(stored: StoredDocument, access: Access): string | undefined {
  if (seesEverything(access)) return stringifyStored(stored);
  const document = readStored(stored);
  return sees(access, document) ? JSON.stringify(withoutFields(document, access.conceal)) : undefined;
}
