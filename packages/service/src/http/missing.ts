import { didYouMean, namedFields, nearNames, type Query } from '@uproar/core';
import type { Store } from '../store/index.js';

/** Says that nothing was ever written to a collection, and which are called nearly the same. */
export function describeMissing(store: Store, name: string): string {
  const near = nearNames(
    name,
    store.collections.list().map((info) => info.name),
  );
  return `Nothing was ever written to a collection "${name}".${didYouMean(near)}`;
}

/** Says which names in a query were probably meant otherwise, by what is usual in the collections. */
export function describeMisnamed(store: Store, query: Query): string[] {
  const notes = new Set<string>();
  for (const { collection, path } of namedFields(query)) {
    const names = store.usualNames.of(collection);
    // A field that few documents have is nothing unusual; one that is nearly called like another is.
    if (names.findNear(path)?.length) notes.add(names.describeMissing(path)!);
  }
  for (const { query: inner } of query.includes) {
    if (!store.collections.get(inner.from)) notes.add(describeMissing(store, inner.from));
  }
  return [...notes];
}
