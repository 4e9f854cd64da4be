/**
 * Vue composables over the Uproar client.
 *
 * @packageDocumentation
 */
import type {
  AnyRelated,
  Collection,
  ConnectionState,
  Schemas,
  Store,
  TypedDocument,
  View,
  Watch,
} from '@uproar/client';
import {
  computed,
  onScopeDispose,
  shallowRef,
  toValue,
  watch as watchSource,
  type ComputedRef,
  type MaybeRefOrGetter,
  type ShallowRef,
} from 'vue';

/**
 * The view of a watch as a ref. The watch starts when the composable is called, and again whenever what `begin` reads
 * changes, and closed with the component.
 */
export function useWatch<Data, Related = AnyRelated>(
  begin: () => Watch<Data, Related> | undefined,
): Readonly<ShallowRef<View<Data, Related> | undefined>> {
  const view = shallowRef<View<Data, Related> | undefined>();
  let open: Watch<Data, Related> | undefined;
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

/** How many writes of this client wait to be acknowledged, as a ref. */
export function usePending(store: Store): Readonly<ShallowRef<number>> {
  const pending = shallowRef(store.pending);
  onScopeDispose(store.subscribe(() => (pending.value = store.pending)));
  return pending;
}

/** What a component sees of one document. */
export interface DocumentView<Data> {
  /** Undefined while nothing is known, and when the document does not exist. */
  document: TypedDocument<Data> | undefined;
  state: View['state'];
  /** Whether it shows a write of this client that the store has not acknowledged yet. */
  pending: boolean;
  error: View['error'];
}

/** One document, which need not exist, as a ref. It follows another one when the id changes. */
export function useDocument<Data, Known extends Schemas>(
  collection: MaybeRefOrGetter<Collection<Data, Known>>,
  id: MaybeRefOrGetter<string>,
): ComputedRef<DocumentView<Data>> {
  const view = useWatch(() => toValue(collection).watchOne(toValue(id)));
  return computed(() => ({
    document: view.value?.documents[0],
    state: view.value?.state ?? 'loading',
    pending: (view.value?.pending.size ?? 0) > 0,
    error: view.value?.error,
  }));
}
