import { compareStrings, formatTime } from '@uproar/core';
import type { CollectionSummary } from '@uproar/protocol';
import type { CollectionInfo, Store } from '../store/index.js';
import type { ReadScope } from './read-scope.js';

/**
 * The collections as a caller sees them. Collections that may hold hidden documents are listed by name only, and only
 * if the policy names them, so the list reveals nothing about their contents.
 */
export function listCollections(store: Store, scope: ReadScope): CollectionSummary[] {
  const summaries = new Map<string, CollectionSummary>();
  for (const name of scope.named) {
    const { read } = scope.effectiveAccess(name);
    if (typeof read !== 'boolean') summaries.set(name, { id: name, data: {} });
  }
  for (const info of store.collections.list()) {
    const { read, conceal } = scope.effectiveAccess(info.name);
    if (read === true) summaries.set(info.name, summarize(info, conceal.length === 0));
  }
  return [...summaries.values()].sort((a, b) => compareStrings(a.id, b.id));
}

/** A collection in the form of a document. */
function summarize(info: CollectionInfo, withSize: boolean): CollectionSummary {
  return {
    id: info.name,
    version: info.version,
    created: formatTime(info.created),
    updated: formatTime(info.updated),
    data: { documents: info.documents, ...(withSize ? { sizeBytes: info.sizeBytes } : {}) },
  };
}
