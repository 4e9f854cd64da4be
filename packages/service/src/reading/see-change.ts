import { sees, seesEverything, withoutFields, type Access, type Document, type DocumentChange } from '@uproar/core';

/**
 * A change as a caller sees it: a document that comes into sight is created, one that goes out of sight is deleted.
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
export function kindOfChange({ before, after }: DocumentChange): 'created' | 'updated' | 'deleted' {
  return !before ? 'created' : !after ? 'deleted' : 'updated';
}
