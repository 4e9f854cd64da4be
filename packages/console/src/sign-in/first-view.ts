import type { Store, Watch } from '@uproar/client';
import { watchTable } from '../shared/watch-table';

/** How long the page waits for what it shows first, in milliseconds; then it is drawn without. */
const WAIT_MS = 150;

/**
 * Begins the watches of the page at an address, so that their documents arrive while the page is still being built, and the
 * page is drawn once, with its rows. Returns a function that resolves when they are there or take too long.
 */
export function beginFirstView(store: Store, { pathname, search }: Location): () => Promise<void> {
  const [, collection] = /^\/console\/data\/([a-z0-9-]+)/.exec(pathname) ?? [];
  const query = new URLSearchParams(search);
  const watches: Watch[] = [store.watchCollections()];
  if (collection !== undefined && !query.has('at')) {
    watches.push(watchTable(store, collection, query.get('where') ?? '', query.get('order') ?? ''));
  }
  const loaded = Promise.all(watches.map(isLoaded));
  // The page has watches of its own by then, which share the subscriptions of these.
  void loaded.then(() => setTimeout(() => watches.forEach((watch) => watch.close()), 1000));
  return async () => {
    await Promise.race([loaded, new Promise((resolve) => setTimeout(resolve, WAIT_MS))]);
  };
}

async function isLoaded(watch: Watch): Promise<void> {
  for await (const { state } of watch) if (state !== 'loading') return;
}
