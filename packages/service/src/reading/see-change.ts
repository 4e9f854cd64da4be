import type { KeptChange } from '../store/index.js';
import { sees, seesEverything, withoutFields, type Access, type Document, type DocumentChange } from '@uproar/core';

/**
 * A change as a caller sees it: a document that comes into sight is created, one that goes out of sight is deleted. Of an
 * erased one it is not known who could see it, so only those see it who see everything.
 *
 * @returns undefined if the caller sees nothing of it
 */
export function seeChange<Change extends DocumentChange>(access: Access, change: Change): Change | undefined {
  if (seesEverything(access)) return change;
  const look = (document: Document | undefined) =>
    document && sees(access, document) ? withoutFields(document, access.conceal) : undefined;
  const [before, after] = [look(change.before), look(change.after)];
  return before || after ? { ...change, before, after } : undefined;
}

/** What happened to a document. */
export function kindOfChange({ before, after, erased }: KeptChange): 'created' | 'updated' | 'deleted' | 'erased' {
  if (erased) return 'erased';
  return !before ? 'created' : !after ? 'deleted' : 'updated';
}
