import { deepEqual, type Document, type JsonObject } from '@uproar/core';
import type { Problem, PROBLEMS } from '@uproar/protocol';
import { PROBLEM_TYPE_PREFIX } from '@uproar/protocol/problem-error';
import { applyPending, type PendingWrite } from '../outbox/pending.js';
import type { SchemaCheck } from '../schema/schema.js';
import type { Subscription } from './subscription.js';
import { LOADING, movesBetween, overlayView, type AnyRelated, type DocumentsView, type View } from './view.js';

/** What a watch needs from its store. */
export interface WatchHost {
  /** The writes that the store has not acknowledged, or whose effect has not arrived yet. */
  pendingWrites(subscription: Subscription): readonly PendingWrite[];
  /** The last known state of a document, in any view. */
  known(address: string): Document | undefined;
}

/**
 * A live view of what the store holds, with one's own writes in it from the moment they are made. It is there at once, in the
 * state `loading`, and follows the store until it is closed; through broken connections too.
 *
 * Ways to use it: read {@link current}; {@link subscribe}, which calls back with each view; or iterate over it with
 * `for await`. It follows the store contract of Svelte, can be handed to React's `useSyncExternalStore`, and to what takes
 * observables.
 */
export class Watch<Data = JsonObject, Related = AnyRelated> implements AsyncIterable<View<Data, Related>> {
  readonly #host: WatchHost;
  readonly #subscription: Subscription;
  readonly #check: SchemaCheck | undefined;
  readonly #onClose: () => void;
  readonly #subscribers = new Set<(view: View<Data, Related>) => void>();
  readonly #wakeOnClose = new Set<() => void>();
  #current = LOADING;
  #announced = true;
  #closed = false;
  /** Whether the view is that of the store alone, so that its changes can be passed on as they are. */
  #plain = true;

  /** For the store. */
  constructor(host: WatchHost, subscription: Subscription, check: SchemaCheck | undefined, onClose: () => void) {
    this.#host = host;
    this.#subscription = subscription;
    this.#check = check;
    this.#onClose = onClose;
    subscription.listeners.add(this.#follow);
    const { base } = subscription;
    // For who comes later everything that is there already is new.
    if (base.state !== 'loading') this.#follow(base.with({ changes: movesBetween(LOADING, base) }));
  }

  /** What the watch shows now. */
  get current(): View<Data, Related> {
    return this.#current as View as View<Data, Related>;
  }

  /** The id of this watch on the present connection; undefined while there is none. */
  get name(): string | undefined {
    return this.#subscription.name;
  }

  /**
   * Calls `subscriber` with the present view at once, and with every later one. Changes that arrive together produce
   * one view. Accepts an observer with `next` instead of a function.
   *
   * @returns stops the calls; also callable as `unsubscribe`
   */
  readonly subscribe = (
    subscriber:
      ((view: View<Data, Related>) => void) | { next?: (view: View<Data, Related>) => void; complete?: () => void },
  ): (() => void) & { unsubscribe(): void } => {
    const call = typeof subscriber === 'function' ? subscriber : (view: View<Data, Related>) => subscriber.next?.(view);
    const complete = () => {
      if (typeof subscriber !== 'function') subscriber.complete?.();
    };
    // A function of its own, so that the same callback can subscribe twice.
    const listener = (view: View<Data, Related>) => call(view);
    this.#subscribers.add(listener);
    this.#wakeOnClose.add(complete);
    call(this.current);
    const stop = () => {
      this.#subscribers.delete(listener);
      this.#wakeOnClose.delete(complete);
    };
    return Object.assign(stop, { unsubscribe: stop });
  };

  /** The views one after the other, from the present one on. Ends when the watch is closed or has failed. */
  async *[Symbol.asyncIterator](): AsyncIterator<View<Data, Related>> {
    const waiting: View<Data, Related>[] = [];
    let wake: () => void = () => undefined;
    const stop = this.subscribe((view) => {
      waiting.push(view);
      wake();
    });
    const wakeUp = () => wake();
    this.#wakeOnClose.add(wakeUp);
    try {
      while (true) {
        for (let view = waiting.shift(); view; view = waiting.shift()) {
          yield view;
          if (view.state === 'failed') return;
        }
        if (this.#closed) return;
        await new Promise<void>((resolve) => {
          wake = resolve;
          if (waiting.length > 0) resolve();
        });
      }
    } finally {
      this.#wakeOnClose.delete(wakeUp);
      stop();
    }
  }

  /** Ends the watch. The service is informed a little later, so that the next page can reuse it at no cost. */
  close(): void {
    if (this.#closed) return;
    this.#closed = true;
    this.#subscription.listeners.delete(this.#follow);
    this.#onClose();
    for (const wake of this.#wakeOnClose) wake();
  }

  /** Shows the pending writes as they are now. For the store. */
  refresh(): void {
    this.#follow(this.#subscription.base.with({ changes: [] }));
  }

  readonly #follow = (base: DocumentsView): void => {
    const { scope, compare } = this.#subscription;
    const writes = this.#host.pendingWrites(this.#subscription);
    if (writes.length === 0 && (this.#check?.onViolation ?? 'keep') === 'keep') {
      // No documents are dropped, so only new and changed documents have to be validated.
      for (const { to } of base.changes) if (to !== undefined) this.#check?.violationOf(base.documents[to]!);
      this.#show(this.#plain ? base : base.with({ changes: movesBetween(this.#current, base) }));
      this.#plain = true;
      return;
    }
    const pending = applyPending(
      writes,
      scope,
      (id) => this.#subscription.document(id),
      (address) => this.#host.known(address),
    );
    // What looks as it did keeps its identity.
    for (const [id, document] of pending) {
      const before = this.#current.byId.get(id);
      if (document && before && deepEqual(document as never, before as never)) pending.set(id, before);
    }
    let violation: string | undefined;
    const fits = (document: Document): boolean => {
      const found = this.#check?.violationOf(document);
      if (!found || this.#check!.onViolation === 'keep') return true;
      violation ??= `${found.collection}/${found.id} does not fit: ${found.message} (at ${found.pointer || 'the whole'}).`;
      return false;
    };
    const view = overlayView(this.#current, base, pending, fits, compare, scope.limit);
    this.#plain = false;
    if (violation === undefined || this.#check!.onViolation === 'drop') this.#show(view);
    else this.#show(view.with({ state: 'failed', error: describeViolation(violation) }));
  };

  #show(view: DocumentsView): void {
    if (sameState(view, this.#current)) return;
    // Views that have not been delivered yet are merged into this one, with their changes.
    this.#current = this.#announced ? view : view.with({ changes: foldMoves(this.#current.changes, view.changes) });
    if (!this.#announced) return;
    this.#announced = false;
    queueMicrotask(() => {
      this.#announced = true;
      for (const subscriber of this.#subscribers) subscriber(this.current);
    });
  }
}

/** Whether a view without changes says nothing else that is new. */
function sameState(view: View, before: View): boolean {
  return (
    view.changes.length === 0 &&
    view.state === before.state &&
    view.seq === before.seq &&
    view.more === before.more &&
    view.error === before.error &&
    view.pending.size === before.pending.size &&
    [...view.pending].every((id) => before.pending.has(id))
  );
}

/** The problem of a view that fails on a document. */
function describeViolation(detail: string): Problem {
  const title = 'The data cannot be stored as a document' satisfies (typeof PROBLEMS)['bad-document']['title'];
  return { type: `${PROBLEM_TYPE_PREFIX}bad-document`, title, status: 422, detail };
}

/** Joins two rows of moves: each document from where it stood first to where it stands last. */
function foldMoves(earlier: View['changes'], later: View['changes']): View['changes'] {
  const moves = new Map(earlier.map((move) => [move.id, move]));
  for (const move of later)
    moves.set(move.id, { ...move, from: moves.has(move.id) ? moves.get(move.id)!.from : move.from });
  return [...moves.values()].filter(({ from, to }) => from !== undefined || to !== undefined);
}
