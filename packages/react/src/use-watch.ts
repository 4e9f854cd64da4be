import type { AnyRelated, Collection, Schemas, TypedDocument, View, Watch } from '@uproar/client';
import { useMemo, useSyncExternalStore, type DependencyList } from 'react';

/** A view in which nothing is known: on a server, before the first render in a browser, and without a watch. */
const LOADING: View<never, never> = {
  state: 'loading',
  documents: [],
  byId: new Map(),
  changes: [],
  more: false,
  seq: 0,
  pending: new Set(),
};

/**
 * The view of a watch. The watch begins when the component is mounted, begins anew when a dependency changes, and is closed
 * when the component is unmounted. Documents that did not change are the same objects as in the view before, so components
 * in `memo` that get one document render again only when it has changed.
 *
 * @param begin returns the watch; undefined for none: then the view stays in the state `loading`
 * @param dependencies everything that `begin` uses, as for `useMemo`
 */
export function useWatch<Data, Related = AnyRelated>(
  begin: () => Watch<Data, Related> | undefined,
  dependencies: DependencyList,
): View<Data, Related> {
  const watched = useMemo(() => new Watched(begin), dependencies);
  return useSyncExternalStore(watched.subscribe, watched.current, onServer);
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

/** One document, which need not exist. The component renders again only when this document or the state changes. */
export function useDocument<Data, Known extends Schemas>(
  collection: Collection<Data, Known>,
  id: string,
): DocumentView<Data> {
  const { store, name } = collection;
  const { documents, state, pending, error } = useWatch(() => collection.watchOne(id), [store, name, id]);
  const document = documents[0];
  const isPending = pending.size > 0;
  return useMemo(() => ({ document, state, pending: isPending, error }), [document, state, isPending, error]);
}

/** A watch that is open while React is subscribed to it. */
class Watched<Data, Related> {
  readonly #begin: () => Watch<Data, Related> | undefined;
  #watch: Watch<Data, Related> | undefined;
  #view: View<Data, Related> = LOADING;

  constructor(begin: () => Watch<Data, Related> | undefined) {
    this.#begin = begin;
  }

  readonly subscribe = (notify: () => void): (() => void) => {
    const watch = this.#begin();
    this.#watch = watch;
    const stop = watch?.subscribe((view) => {
      this.#view = view;
      notify();
    });
    return () => {
      stop?.();
      watch?.close();
      if (this.#watch === watch) this.#watch = undefined;
    };
  };

  readonly current = (): View<Data, Related> => this.#view;
}

function onServer(): View<never, never> {
  return LOADING;
}
