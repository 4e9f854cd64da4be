import { didYouMean, nearNames } from '@uproar/core';
import type { Store } from '../store/index.js';

/** Says that nothing was ever written to a collection, and which are called nearly the same. */
export function describeMissing(store: Store, name: string): string {
  const near = nearNames(
    name,
    store.collections.list().map((info) => info.name),
  );
  return `Nothing was ever written to a collection "${name}".${didYouMean(near)}`;
}
