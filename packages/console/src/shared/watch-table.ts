import type { Store, Watch } from '@uproar/client';

/** The watch of what a table of a collection shows. */
export function watchTable(store: Store, collection: string, where = '', order = ''): Watch {
  return store.collection(collection).watch({ where: where || undefined, order: order || undefined });
}
