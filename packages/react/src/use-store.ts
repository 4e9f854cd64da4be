import type { ConnectionState, Store } from '@uproar/client';
import { useSyncExternalStore } from 'react';

/** The state on a server, where nothing is connected. */
const CONNECTING: ConnectionState = { name: 'connecting' };

/** The state of a store's connection. */
export function useConnection(store: Store): ConnectionState {
  return useSyncExternalStore(
    subscribeTo(store),
    () => store.state,
    () => CONNECTING,
  );
}

/** How many writes of this client wait to be acknowledged. */
export function usePending(store: Store): number {
  return useSyncExternalStore(
    subscribeTo(store),
    () => store.pending,
    () => 0,
  );
}

type Subscribe = (notify: () => void) => () => void;

/** One function for each store, so that React does not subscribe again at every render. */
const SUBSCRIBE = new WeakMap<Store, Subscribe>();

function subscribeTo(store: Store): Subscribe {
  let subscribe = SUBSCRIBE.get(store);
  if (!subscribe) SUBSCRIBE.set(store, (subscribe = (notify) => store.subscribe(notify)));
  return subscribe;
}
