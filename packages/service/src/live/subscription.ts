import { ProblemError } from '@uproar/protocol';
import type { LiveEvent } from './live-event.js';
import type { Source } from './source.js';

/** One connection's subscription to a live view. */
export interface Sink {
  /** True when so much is waiting to be read that no more should be added. */
  readonly full: boolean;
  send(event: LiveEvent): void;
}

/** Counts the events that are sent to one identity. */
export interface DeliveryCounter {
  delivery(sentBytes: number): void;
}

/** What a subscription uses of its view. */
export interface SubscribedView {
  readonly name: string;
  readonly seq: number;
  /** A promise while the view has to read the store. */
  readonly settled: Promise<void> | undefined;
  /** The source that the view gets its state from. */
  readonly source: Source;
  resumePoint(seq: number): string;
  fullState(name: 'result' | 'reset'): LiveEvent | Promise<LiveEvent>;
  /** The changes after `seq` as one event; undefined if they are no longer available. */
  changeSince(seq: number): LiveEvent | undefined | Promise<LiveEvent | undefined>;
  noteSent(event: LiveEvent): void;
  noteMerged(durationMs: number): void;
  remove(subscription: Subscription): void;
}

/**
 * The part of one connection in a view. A connection that reads too slowly gets nothing for a while: only `sentSeq` is
 * kept, and one merged change is sent when it reads again.
 */
export class Subscription {
  /** True while events are held back: before the first one, while the reader is too slow, and while it catches up. */
  get behind(): boolean {
    return this.#behind;
  }
  #behind = true;
  #sentSeq = 0;
  #begun = false;
  #stopped = false;
  #suspended = false;
  /** Sends the first event, which was there while nothing was let pass. */
  #heldFirst: (() => void) | undefined;
  #catchingUp: Promise<void> | undefined;
  #behindSinceMs: number | undefined;

  /**
   * @param holder the identity or address that the work of the watch is counted for
   * @param fail called when the watch cannot begin or continue
   * @param usage counts what is sent
   */
  constructor(
    readonly view: SubscribedView,
    readonly sink: Sink,
    readonly holder: string,
    readonly fail: (error: unknown) => void,
    readonly usage?: DeliveryCounter,
  ) {}

  /** Whether its first event has gone out. */
  get begun(): boolean {
    return this.#begun;
  }

  /** Sends the first event of the watch through the caller, and then the changes since. */
  begin(first: LiveEvent, send: (event: LiveEvent) => void): void {
    if (this.#stopped) return;
    if (this.#suspended) {
      this.#heldFirst = () => this.begin(first, send);
      return;
    }
    this.#begun = true;
    this.#sentSeq = first.seq;
    this.#noteSent(first);
    send(first);
    void this.catchUp();
  }

  /** Lets nothing pass until it is known whether it may still be seen. */
  suspend(): void {
    this.#suspended = true;
  }

  /** Resumes: sends the changes since it was suspended. */
  resume(): void {
    this.#suspended = false;
    this.#heldFirst?.();
    this.#heldFirst = undefined;
    void this.catchUp();
  }

  /** Passes an event on, or notes that the connection is behind. */
  deliver(event: LiveEvent): void {
    if (event.seq <= this.#sentSeq) return;
    if (this.#suspended) this.fallBehind();
    else if (this.#behind || this.sink.full) {
      this.fallBehind();
      if (!this.sink.full) void this.catchUp();
    } else {
      this.#sentSeq = event.seq;
      this.#noteSent(event);
      this.sink.send(event);
    }
  }

  /** Notes that something has happened which is not sent yet. */
  fallBehind(): void {
    this.#behind = true;
    this.#behindSinceMs ??= Date.now();
  }

  /** The commits since the last event, and how long the connection has been behind; zeros if it is up to date. */
  get lag(): { commits: number; ms: number } {
    if (!this.#behind || !this.#begun) return { commits: 0, ms: 0 };
    return { commits: this.view.seq - this.#sentSeq, ms: Date.now() - (this.#behindSinceMs ?? Date.now()) };
  }

  /**
   * Sends the missed changes, as one event. Returns a promise while that is in progress, and nothing if the connection is
   * up to date.
   */
  catchUp(): Promise<void> | undefined {
    if (!this.#behind || !this.#begun || this.#stopped || this.#suspended) return undefined;
    if (this.#catchingUp) return this.#catchingUp;
    const missed = this.view.changeSince(this.#sentSeq);
    if (missed && !(missed instanceof Promise)) {
      this.#take(missed);
      return undefined;
    }
    // A failure leaves the connection behind; the next drain or commit of its own tries again. What costs too much ends it.
    let failed = false;
    const taken = this.#takeSlowly(missed).catch((error: unknown) => {
      failed = true;
      if (isBudgetProblem(error)) this.end(error);
    });
    this.#catchingUp = taken
      .finally(() => (this.#catchingUp = undefined))
      // Other requests are served before it continues, however often that is.
      .then(() => new Promise((resolve) => setImmediate(resolve)))
      .then(() => (failed ? undefined : this.catchUp()));
    return this.#catchingUp;
  }

  /** Ends the connection's part in the view, and says why. */
  end(error: unknown): void {
    if (this.#stopped) return;
    this.stop();
    this.fail(error);
  }

  /** Ends the connection's part in the view. */
  stop(): void {
    this.#stopped = true;
    this.view.remove(this);
  }

  #noteSent(event: LiveEvent): void {
    this.view.noteSent(event);
    this.usage?.delivery(event.sizeBytes);
  }

  async #takeSlowly(missed: LiveEvent | undefined | Promise<LiveEvent | undefined>): Promise<void> {
    // What cannot be sent as a change is sent as a whole state.
    const event = (await Promise.resolve(missed).catch(() => undefined)) ?? (await this.view.fullState('reset'));
    if (!this.#stopped && !this.#suspended) this.#take(event);
  }

  #take(event: LiveEvent): void {
    if (!event.empty) {
      this.#noteSent(event);
      this.sink.send(event);
      if (this.#behindSinceMs !== undefined) this.view.noteMerged(Date.now() - this.#behindSinceMs);
    }
    this.#sentSeq = event.seq;
    // More changes may have arrived during the computation.
    this.#behind = event.seq !== this.view.seq;
    if (!this.#behind) this.#behindSinceMs = undefined;
  }
}

export function isBudgetProblem(error: unknown): boolean {
  return error instanceof ProblemError && /\/(?:query-too-costly|budget-exceeded)$/.test(error.problem.type);
}
