import type { DocumentChange } from '@uproar/core';
import type { Collections } from './collections.js';
import type { Documents, StoredDocument } from './documents.js';
import type { Journal } from './journal.js';

/** A document as it is stored; undefined if it does not exist. */
export function findStored(
  { collections, documents }: { readonly collections: Collections; readonly documents: Documents },
  collection: string,
  id: string,
): StoredDocument | undefined {
  const info = collections.get(collection);
  return info && documents.get(info.number, id);
}

/**
 * The net changes of a collection after a seq: at most one for each document. Undefined if documents were erased since,
 * whose state at that seq is unknown.
 *
 * @param id only the changes of this document
 */
export function changesAfter(
  { collections, journal }: { readonly collections: Collections; readonly journal: Journal },
  collection: string,
  seq: number,
  id?: string,
): DocumentChange[] | undefined {
  const info = collections.get(collection);
  if (info && journal.erasedAfter(seq, collection) !== undefined) return undefined;
  return info ? journal.netChangesAfter(seq, info.number, id) : [];
}

/** Like {@link changesAfter}; undefined if there are too many changes to compute at once. */
export function fewChangesAfter(
  { collections, journal }: { readonly collections: Collections; readonly journal: Journal },
  collection: string,
  seq: number,
  id?: string,
): DocumentChange[] | undefined {
  const info = collections.get(collection);
  if (info && journal.erasedAfter(seq, collection) !== undefined) return undefined;
  return info ? journal.fewChangesAfter(seq, info.number, id) : [];
}
