import { compareBy, parseOrder } from '@uproar/core';
import type { LiveResults, WatchTarget } from '@uproar/protocol';
import { ProblemError } from '@uproar/protocol/problem-catalogue';
import type { Connection } from './connection.js';
import { LOADING, patchView, replaceView, type Compare, type View } from './view.js';

/**
 * A live view of what the store holds. It is there at once, in the state `loading`, and follows the store until it
 * is closed; through broken connections too.
 *
 * Three ways to use it: read {@link current}; {@link subscribe}, which calls back with each view; or iterate over it
 * with `for await`.
 */
export class Watch implements AsyncIterable<View> {
  readonly #connection: Connection;
  readonly #target: WatchTarget;
  readonly #onClose: (watch: Watch) => void;
  readonly #subscribers = new Set<(view: View) => void>();
  #current: View = LOADING;
  #announced = true;
  #resume: string | undefined;
  /** What the service calls this watch on the present connection. */
  name: string | undefined;
  readonly #compare: Compare;
  #closed = false;
  readonly #wakeOnClose = new Set<() => void>();

  constructor(connection: Connection, target: WatchTarget, onClose: (watch: Watch) => void) {
    this.#connection = connection;
    this.#target = target;
    this.#compare = compareBy('query' in target && target.query.order ? parseOrder(target.query.order) : []);
    this.#onClose = onClose;
  }

  /** What the watch shows now. */
  get current(): View {
    return this.#current;
  }

  /**
   * Calls `subscriber` with the present view, at once, and with every later one. Changes that arrive together come as
   * one view.
   *
   * @returns stops the calls
   */
  subscribe(subscriber: (view: View) => void): () => void {
    this.#subscribers.add(subscriber);
    subscriber(this.#current);
    return () => this.#subscribers.delete(subscriber);
  }

  /** The views one after the other, from the present one on. Ends when the watch is closed or has failed. */
  async *[Symbol.asyncIterator](): AsyncIterator<View> {
    const waiting: View[] = [];
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

  /** Ends the watch. */
  close(): void {
    if (this.#closed) return;
    this.#closed = true;
    this.#onClose(this);
    for (const wake of this.#wakeOnClose) wake();
    if (this.name !== undefined && this.#connection.state.name === 'online') {
      this.#connection.call('unwatch', { watch: this.name }).catch(() => undefined);
    }
  }

  /** Begins the watch on a fresh connection, from where it stood. For the store. */
  begin(): void {
    this.name = undefined;
    this.#connection.request(
      'watch',
      { ...this.#target, resume: this.#resume },
      (first) => {
        if (!this.#closed) this.take(first);
        else this.#connection.call('unwatch', { watch: first.watch }).catch(() => undefined);
      },
      (error) => {
        if (error instanceof ProblemError) this.fail(error);
      },
    );
  }

  /** Takes up the first event of a watch, a change or a reset. For the store. */
  take(event: LiveResults['watch']): void {
    this.name = event.watch;
    this.#resume = event.resume;
    if ('documents' in event) this.#show(replaceView(this.#current, event.documents, event.seq, event.more));
    else {
      const view = patchView(this.#current, event.patch, event.seq, this.#compare);
      this.#show(event.more === undefined ? view : { ...view, more: event.more });
    }
  }

  /** Forgets what is shown, because it turned out unsound, and begins anew. For the store. */
  beginAnew(): void {
    this.#resume = undefined;
    this.begin();
  }

  /** Marks what is shown as no longer certain. For the store. */
  setStale(): void {
    this.name = undefined;
    if (this.#current.state === 'live') this.#show({ ...this.#current, state: 'stale', changes: [] });
  }

  /** Ends the watch with a reason. For the store. */
  fail(error: ProblemError): void {
    this.#show({ ...this.#current, state: 'failed', changes: [], error: error.problem });
  }

  #show(view: View): void {
    // Views that nobody has seen yet fold into this one, their changes with it.
    this.#current = this.#announced ? view : { ...view, changes: foldMoves(this.#current.changes, view.changes) };
    if (!this.#announced) return;
    this.#announced = false;
    queueMicrotask(() => {
      this.#announced = true;
      for (const subscriber of this.#subscribers) subscriber(this.#current);
    });
  }
}

/** Joins two rows of moves: each document from where it stood first to where it stands last. */
function foldMoves(earlier: View['changes'], later: View['changes']): View['changes'] {
  const moves = new Map(earlier.map((move) => [move.id, move]));
  for (const move of later)
    moves.set(move.id, { ...move, from: moves.has(move.id) ? moves.get(move.id)!.from : move.from });
  return [...moves.values()].filter(({ from, to }) => from !== undefined || to !== undefined);
}
