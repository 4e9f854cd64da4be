import type { AnyRelated, View, Watch } from '@uproar/client';
import { useSyncExternalStore } from 'react';

/** A view that no component shows is kept open for this time, in milliseconds. */
const KEPT_MS = 5000;

/**
 * A watch for components that suspend until it shows something. It is made outside of them: where a route is loaded, on an
 * event, or beside the store. It begins at once, so that the data is on its way before the component is rendered, and ends a
 * few seconds after the last component has stopped showing it; then the next one begins it anew.
 */
export class PreparedWatch<Data, Related = AnyRelated> {
  readonly #begin: () => Watch<Data, Related>;
  readonly #listeners = new Set<() => void>();
  #watch: Watch<Data, Related> | undefined;
  #loaded: Promise<void> | undefined;
  #resolve: () => void = () => undefined;
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(begin: () => Watch<Data, Related>) {
    this.#begin = begin;
    this.#open();
  }

  /** Calls `notify` whenever the view has changed. Returns a stop function. */
  readonly subscribe = (notify: () => void): (() => void) => {
    this.#listeners.add(notify);
    this.#open();
    this.#stopTimer();
    return () => {
      this.#listeners.delete(notify);
      if (this.#listeners.size === 0) this.#closeLater();
    };
  };

  /**
   * The view as it is.
   *
   * @throws {Promise} while it loads: React waits for it
   * @throws {WatchFailedError} when the watch has failed
   */
  readonly current = (): View<Data, Related> => {
    const view = this.#open().current;
    if (view.state === 'loading') throw this.#loaded;
    if (view.state === 'failed') throw new WatchFailedError(view.error);
    return view;
  };

  /** Ends it at once. */
  close(): void {
    this.#stopTimer();
    this.#watch?.close();
    this.#watch = undefined;
    this.#resolve();
  }

  #stopTimer(): void {
    clearTimeout(this.#timer);
    this.#timer = undefined;
  }

  #open(): Watch<Data, Related> {
    if (this.#watch) return this.#watch;
    const watch = this.#begin();
    this.#watch = watch;
    this.#loaded = new Promise((resolve) => {
      this.#resolve = resolve;
      watch.subscribe((view) => {
        if (view.state !== 'loading') this.#arrived();
        for (const notify of this.#listeners) notify();
      });
    });
    return watch;
  }

  /** Those who wait may go on; if nobody shows it after all, it ends. */
  #arrived(): void {
    this.#resolve();
    if (this.#listeners.size === 0 && this.#timer === undefined) this.#closeLater();
  }

  #closeLater(): void {
    this.#stopTimer();
    this.#timer = setTimeout(() => this.close(), KEPT_MS);
  }
}

/** Why a prepared watch shows nothing. */
export class WatchFailedError extends Error {
  override name = 'WatchFailedError';

  constructor(readonly problem: View['error']) {
    super(problem ? `${problem.title}. ${problem.detail ?? ''}` : 'The watch has failed.');
  }
}

/**
 * What a prepared watch shows. The component suspends until there is something to show, and throws a {@link WatchFailedError} to the
 * nearest error boundary when the watch has failed. On a server, the nearest `Suspense` shows its fallback.
 */
export function usePreparedWatch<Data, Related>(view: PreparedWatch<Data, Related>): View<Data, Related> {
  return useSyncExternalStore(view.subscribe, view.current);
}
