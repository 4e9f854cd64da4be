import { createHash } from 'node:crypto';
import type { DocumentChange, JsonPatch } from '@uproar/core';
import { LiveEvent } from './live-event.js';
import type { Source } from './sources.js';

/** The way from a view to one connection. */
export interface Sink {
  /** True when so much is waiting to be read that no more should be added. */
  readonly full: boolean;
  send(event: LiveEvent): void;
}

/**
 * One connection's part in a view. A connection that reads too slowly gets nothing for a while; what it has missed
 * is told by `sentSeq` alone and brought by one merged change when it reads again.
 */
export class Subscription {
  behind = false;
  constructor(
    readonly view: LiveView,
    readonly sink: Sink,
    public sentSeq: number,
  ) {}

  /** Passes an event on, or notes that the connection is behind. */
  deliver(event: LiveEvent): void {
    if (this.behind || this.sink.full) {
      this.behind = true;
    } else {
      this.sentSeq = event.seq;
      this.sink.send(event);
    }
  }

  /** Sends what was missed, as one event. */
  catchUp(): void {
    if (!this.behind) return;
    this.behind = false;
    const event = this.view.changeSince(this.sentSeq) ?? this.view.fullState('reset');
    this.sentSeq = event.seq;
    this.sink.send(event);
  }

  /** Ends the connection's part in the view. */
  stop(): void {
    this.view.remove(this);
  }
}

/** What everybody who watches the same thing has in common. */
export class LiveView {
  readonly #subscriptions = new Set<Subscription>();
  readonly #fingerprint: string;
  readonly #changesSince = new Map<number, LiveEvent | undefined>();
  #changesAreOf = -1;

  constructor(
    readonly name: string,
    readonly source: Source,
    storeId: string,
    private readonly currentSeq: () => number,
    private readonly onEmpty: (view: LiveView) => void,
  ) {
    this.#fingerprint = createHash('sha256').update(storeId).update(source.key).digest('base64url').slice(0, 10);
  }

  /** How many connections watch it. */
  get watchers(): number {
    return this.#subscriptions.size;
  }

  /** The point to resume from when the state at `seq` is known. */
  resumePoint(seq: number): string {
    return `${seq.toString(36)}.${this.#fingerprint}`;
  }

  /** The whole state, as the first event or as a reset. */
  fullState(name: 'result' | 'reset'): LiveEvent {
    const state = this.source.read();
    return LiveEvent.full(name, this.name, this.resumePoint(state.seq), state);
  }

  /** What altered the state after `seq`, as one event; undefined when that is not known any more. */
  changeSince(seq: number): LiveEvent | undefined {
    const now = this.currentSeq();
    if (this.#changesAreOf !== now) {
      this.#changesSince.clear();
      this.#changesAreOf = now;
    }
    if (!this.#changesSince.has(seq)) {
      const patch = this.source.patchSince(seq);
      this.#changesSince.set(seq, patch && this.#change(now, patch));
    }
    return this.#changesSince.get(seq);
  }

  /**
   * Lets a connection take part.
   *
   * @param resume the point it resumes from, where it has one
   * @returns its part, and the event to begin with: the missing change where that can be told, otherwise everything
   */
  add(sink: Sink, resume: string | undefined): { subscription: Subscription; first: LiveEvent } {
    const seq = resume === undefined ? undefined : this.#seqOf(resume);
    const missed = seq === undefined ? undefined : this.changeSince(seq);
    const first = missed ?? this.fullState(resume === undefined ? 'result' : 'reset');
    const subscription = new Subscription(this, sink, first.seq);
    this.#subscriptions.add(subscription);
    return { subscription, first };
  }

  remove(subscription: Subscription): void {
    if (this.#subscriptions.delete(subscription) && this.#subscriptions.size === 0) this.onEmpty(this);
  }

  /** Tells everybody what net changes of the collection did, if they did anything here. */
  distribute(seq: number, changes: readonly DocumentChange[]): void {
    const patch = this.source.patchFor(changes);
    if (patch.length === 0) return;
    const event = this.#change(seq, patch);
    for (const subscription of this.#subscriptions) subscription.deliver(event);
  }

  #change(seq: number, patch: JsonPatch): LiveEvent {
    return LiveEvent.change(this.name, this.resumePoint(seq), seq, patch);
  }

  #seqOf(resume: string): number | undefined {
    const [seq, fingerprint] = resume.split('.');
    if (fingerprint !== this.#fingerprint || !/^[0-9a-z]{1,11}$/.test(seq!)) return undefined;
    return Number.parseInt(seq!, 36);
  }
}
