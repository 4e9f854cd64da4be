/**
 * Vue composables over the Uproar client.
 *
 * @packageDocumentation
 */
import type { ConnectionState, Store, View, Watch } from '@uproar/client';
import { onScopeDispose, shallowRef, watch as watchSource, type ShallowRef } from 'vue';

/**
 * The view of a watch as a ref. The watch starts when the composable is called, and again whenever what `begin` reads
 * changes, and closed with the component.
 */
export function useWatch(begin: () => Watch | undefined): Readonly<ShallowRef<View | undefined>> {
  const view = shallowRef<View | undefined>();
  let open: Watch | undefined;
  const close = () => {
    open?.close();
    open = undefined;
  };
  watchSource(
    begin,
    (next) => {
      close();
      open = next;
      view.value = next?.current;
      next?.subscribe((current) => {
        if (open === next) view.value = current;
      });
    },
    { immediate: true, flush: 'sync' },
  );
  onScopeDispose(close);
  return view;
}

/** The state of a store's connection as a ref. */
export function useConnection(store: Store): Readonly<ShallowRef<ConnectionState>> {
  const state = shallowRef(store.state);
  onScopeDispose(store.subscribe((current) => (state.value = current)));
  return state;
}
