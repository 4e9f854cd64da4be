import { didYouMean, namedFields, nearNames, type Query } from '@uproar/core';
import type { Store } from '../store/index.js';

/** Whether the caller sees all of a collection, and so may get hints about it. */
export type ReadsWholeCollection = (collection: string) => boolean;

/** Says that nothing was ever written to a collection, and which are called nearly the same. */
export function describeMissing(store: Store, name: string, seesAll: ReadsWholeCollection): string {
  const names = store.collections.list().map((info) => info.name);
  return `The collection "${name}" does not exist.${didYouMean(nearNames(name, names.filter(seesAll)))}`;
}

/** Finds names in a query that are probably misspelt, by the usual names of the collections. */
export function describeMisnamed(store: Store, query: Query, seesAll: ReadsWholeCollection): string[] {
  const notes = new Set<string>();
  for (const { collection, path } of namedFields(query)) {
    if (!seesAll(collection)) continue;
    const names = store.fieldNames.of(collection);
    // A field that few documents have is nothing unusual; one that is nearly called like another is.
    if (names.findNear(path)?.length) notes.add(names.describeMissing(path)!);
  }
  for (const from of includedIn(query)) {
    if (seesAll(from) && !store.collections.get(from)) notes.add(describeMissing(store, from, seesAll));
  }
  return [...notes];
}

function includedIn({ includes }: Query): string[] {
  return includes.flatMap(({ query }) => [query.from, ...includedIn(query)]);
}
