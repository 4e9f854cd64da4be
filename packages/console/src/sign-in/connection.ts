import { connect, type Store } from '@uproar/client';
import { beginFirstView } from './first-view';

/** A connection of the console, which asks at once for what the page shows first. */
export interface Connection {
  store: Store;
  /** Resolves when what the page shows first is there, or takes too long. */
  firstView: () => Promise<void>;
}

let begun: (Connection & { key: string | undefined }) | undefined;

/** Begins to connect, before there is a page. */
export function beginConnection(key: string | undefined): void {
  begun = { key, ...open(key) };
}

/** The connection that has been begun with a key; otherwise a new one. */
export function takeConnection(key: string | undefined): Connection {
  const early = begun;
  begun = undefined;
  if (early && early.key === key) return early;
  early?.store.close();
  return open(key);
}

function open(key: string | undefined): Connection {
  const store = connect(location.origin, { token: key, device: 'console' });
  return { store, firstView: beginFirstView(store, location) };
}
