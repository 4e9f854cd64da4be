import { createHash } from 'node:crypto';
import { WorkLimitError, type DocumentChange } from '@uproar/core';
import { type WatchTarget } from '@uproar/protocol';
import type { ByteBudget, ByteLease } from '../limits/byte-budget.js';
import { asLimitProblem, tooManyBytes, tooMuchLiveWork } from '../limits/costs.js';
import type { LiveWork } from '../limits/live-work.js';
import { LiveEvent, writePatch, type FullState } from './live-event.js';
import type { MetricsRecorder } from '../metrics/metrics-recorder.js';
import { SharedState, type StateAt } from './shared-state.js';
import type { Delta, Source } from './source.js';
import { isBudgetProblem, Subscription, type DeliveryCounter, type Sink, type SubscribedView } from './subscription.js';

/** Work below this, divided by the number of watchers, is not counted. */
const LITTLE_WORK = 100;

/** What the views of a store share, and are bounded by. */
export interface ViewBudgets {
  bytes: ByteBudget;
  liveWork: LiveWork;
  watchBytes: number;
}

/** How far the commits have come. */
export interface CommitPosition {
  /** The seq of the newest commit. */
  readonly seq: number;
  /** Whether all views know of it. */
  readonly distributed: boolean;
}

/** What all watchers of the same target share. */
export class LiveView implements SubscribedView {
  readonly #subscriptions = new Set<Subscription>();
  readonly #fingerprint: string;
  /** The changes from earlier seqs to the present one, as far as someone has asked for them. */
  #changesSince: { to: number; from: Map<number, LiveEvent | undefined | Promise<LiveEvent | undefined>> } | undefined;
  readonly #state: SharedState;
  readonly #lease: ByteLease;
  #refilling: Promise<void> | undefined;
  readonly cost = { sinceMs: Date.now(), tested: 0, changed: 0, deliveries: 0, sentBytes: 0, milliseconds: 0 };

  /** @param target the target as it was first requested */
  constructor(
    readonly name: string,
    readonly source: Source,
    readonly target: WatchTarget,
    storeId: string,
    private readonly recorder: MetricsRecorder,
    private readonly position: CommitPosition,
    private readonly onEmpty: (view: LiveView) => void,
    private readonly budgets: ViewBudgets,
    holder: string,
  ) {
    this.#lease = budgets.bytes.open(holder);
    this.#state = new SharedState(
      () => this.source.read(),
      () => this.#subscriptions.size > 0,
      (state) => this.#admit(state),
    );
    this.#fingerprint = createHash('sha256').update(storeId).update(source.key).digest('base64url').slice(0, 10);
  }

  /** How many connections watch it. */
  get watchers(): number {
    return this.#subscriptions.size;
  }

  /** Counts an event that goes out to one of the watchers. */
  noteSent({ sizeBytes }: LiveEvent): void {
    this.cost.deliveries++;
    this.cost.sentBytes += sizeBytes;
    this.recorder.recordDelivery(sizeBytes);
  }

  /** Records that a slow watcher got its missed changes as one event, and how long it was behind. */
  noteMerged(durationMs: number): void {
    this.recorder.recordMerge(durationMs);
  }

  /** The seq of the view, or the one it is about to reach. */
  get seq(): number {
    return this.source.seq ?? this.position.seq;
  }

  /** Ends when no change is held back by a reading of the store; nothing when none is. */
  get settled(): Promise<void> | undefined {
    return this.#refilling;
  }

  /** The point to resume from when the state at `seq` is known. */
  resumePoint(seq: number): string {
    return `${seq.toString(36)}.${this.#fingerprint}`;
  }

  /** The whole state, as the first event or as a reset. */
  fullState(name: 'result' | 'reset'): LiveEvent | Promise<LiveEvent> {
    // A source without a seq of its own follows every commit at once, so its last state is valid until it changes.
    const follows = this.source.seq === undefined && this.position.distributed;
    const state = this.#state.at(this.seq, follows);
    const toEvent = ({ seq, text }: StateAt) => LiveEvent.full(name, this.name, this.resumePoint(seq), seq, text);
    return state instanceof Promise ? state.then(toEvent) : toEvent(state);
  }

  /**
   * Checks that the view may hold a state. Returns whether the state may be kept for new watchers.
   *
   * @throws {ProblemError} `query-too-costly`, or `budget-exceeded` when it is too much to be held
   */
  #admit({ documents }: FullState): boolean {
    const bytes = documents.reduce((sum, { length }) => sum + length, 0);
    if (bytes > this.budgets.watchBytes) throw tooManyBytes('The state of this watch', this.budgets.watchBytes);
    if (this.source.holds) this.#lease.set(2 * bytes);
    return !this.#refilling;
  }

  /** The changes after `seq` as one event; undefined if they are no longer available. */
  changeSince(seq: number): LiveEvent | undefined | Promise<LiveEvent | undefined> {
    const now = this.seq;
    if (seq === now && this.source.ready) return this.#event({ seq: now, patch: [] });
    if (this.#changesSince?.to !== now) this.#changesSince = { to: now, from: new Map() };
    const { from } = this.#changesSince;
    if (!from.has(seq)) {
      const delta = this.#deltaSince(seq);
      from.set(
        seq,
        delta instanceof Promise
          ? delta.then((found) => found && this.#eventUnlessTooLarge(found))
          : delta && this.#eventUnlessTooLarge(delta),
      );
    }
    return from.get(seq);
  }

  /**
   * Adds a connection. Its first event is the missing change if it resumes from a known point, and otherwise the whole
   * state.
   *
   * @param send sends the first event, now or later
   * @param fail called when the first event cannot be produced
   */
  add(
    sink: Sink,
    holder: string,
    usage: DeliveryCounter | undefined,
    resume: string | undefined,
    send: (first: LiveEvent) => void,
    fail: (error: unknown) => void,
  ): Subscription {
    const subscription = new Subscription(this, sink, holder, fail, usage);
    this.#subscriptions.add(subscription);
    let first: LiveEvent | Promise<LiveEvent>;
    try {
      first = this.#first(resume);
    } catch (error) {
      subscription.stop();
      throw error;
    }
    if (first instanceof Promise) {
      first
        .then((event) => subscription.begin(event, send))
        .catch((error: unknown) => {
          subscription.stop();
          fail(error);
        });
    } else subscription.begin(first, send);
    return subscription;
  }

  remove(subscription: Subscription): void {
    if (!this.#subscriptions.delete(subscription) || this.#subscriptions.size > 0) return;
    this.#state.changed();
    this.#lease.release();
    this.onEmpty(this);
  }

  /**
   * Sends the effect of net changes of the collection to all watchers, if there is one.
   *
   * @param sinceMs when the changes were on disk, by `performance.now()`
   */
  distribute(seq: number, changes: readonly DocumentChange[], sinceMs: number): void {
    const started = performance.now();
    this.cost.tested++;
    this.#state.changed();
    const { meters = [] } = this.source;
    const left = meters.length === 0 ? Infinity : this.#workLeft(started);
    if (left <= 0) return this.#charge(0, started);
    const before = meters.reduce((sum, { total }) => sum + total, 0);
    for (const meter of meters) meter.limitTo(left);
    try {
      this.#distribute(seq, changes, sinceMs);
    } catch (error) {
      // An error in one view must not keep other views from being updated.
      this.#failOn(error);
    }
    for (const meter of meters) meter.limitTo(Infinity);
    const steps = meters.reduce((sum, { total }) => sum + total, 0) - before;
    if (steps > LITTLE_WORK * this.#subscriptions.size) this.#charge(steps, started);
    this.cost.milliseconds += performance.now() - started;
  }

  #distribute(seq: number, changes: readonly DocumentChange[], sinceMs: number): void {
    let delta: Delta | Promise<Delta>;
    try {
      delta = this.source.apply(seq, changes);
    } catch (error) {
      return this.#failOn(error);
    }
    if (!(delta instanceof Promise)) {
      this.#send(delta, sinceMs);
      return;
    }
    const refilling = delta
      .then((found) => this.#send(found, sinceMs))
      .catch((error: unknown) => this.#failOn(error))
      .finally(() => {
        if (this.#refilling === refilling) this.#refilling = undefined;
      });
    this.#refilling = refilling;
  }

  /** The number of steps that the watchers of this view may still use together. */
  #workLeft(nowMs: number): number {
    const { liveWork } = this.budgets;
    const holders = new Set<string>();
    let left = 0;
    for (const { holder } of this.#subscriptions) {
      if (holders.has(holder)) continue;
      holders.add(holder);
      left += Math.max(0, liveWork.leftFor(holder, nowMs));
      // As much as one may take at once is enough for all.
      if (left >= liveWork.most) return left;
    }
    return left;
  }

  /** The work is shared by all who watch; those whose budget is used up watch no longer. */
  #charge(steps: number, nowMs: number): void {
    const { liveWork } = this.budgets;
    const share = steps / this.#subscriptions.size;
    const over = new Set<string>();
    for (const { holder } of this.#subscriptions) if (liveWork.take(holder, share, nowMs)) over.add(holder);
    if (over.size === 0) return;
    for (const subscription of [...this.#subscriptions]) {
      if (!over.has(subscription.holder)) continue;
      liveWork.ended++;
      subscription.end(tooMuchLiveWork());
    }
  }

  /**
   * A view that costs too much ends. After any other error, each connection reads the state again when it catches up.
   */
  #failOn(error: unknown): void {
    const costly = error instanceof WorkLimitError ? tooMuchLiveWork() : asLimitProblem(error);
    if (!isBudgetProblem(costly)) return this.#fallBehind();
    for (const subscription of [...this.#subscriptions]) subscription.end(costly);
  }

  /**
   * If the store cannot be read, the state of the view is unknown; each connection reads it again when it catches up.
   */
  #fallBehind(): void {
    for (const subscription of this.#subscriptions) subscription.fallBehind();
  }

  #send(delta: Delta, sinceMs: number): void {
    if (delta.patch.length === 0 && delta.more === undefined) return;
    let event: LiveEvent;
    try {
      event = this.#event(delta);
    } catch (error) {
      return this.#failOn(error);
    }
    this.cost.changed++;
    for (const subscription of this.#subscriptions) subscription.deliver(event);
    this.recorder.recordDelay(performance.now() - sinceMs);
  }

  #first(resume: string | undefined): LiveEvent | Promise<LiveEvent> {
    const seq = resume === undefined ? undefined : this.#seqOf(resume);
    const instead = () => this.fullState(resume === undefined ? 'result' : 'reset');
    const missed = seq === undefined ? undefined : this.changeSince(seq);
    return missed instanceof Promise ? missed.then((event) => event ?? instead()) : (missed ?? instead());
  }

  #deltaSince(seq: number): ReturnType<Source['since']> {
    try {
      return this.source.since(seq);
    } catch {
      return undefined;
    }
  }

  #event({ seq, patch, more }: Delta): LiveEvent {
    const text = writePatch(patch, this.budgets.watchBytes);
    return LiveEvent.change(this.name, this.resumePoint(seq), seq, text, more);
  }

  /** A change that is too large for one event is sent as a whole state instead. */
  #eventUnlessTooLarge(delta: Delta): LiveEvent | undefined {
    try {
      return this.#event(delta);
    } catch (error) {
      if (isBudgetProblem(error)) return undefined;
      throw error;
    }
  }

  #seqOf(resume: string): number | undefined {
    const [seq, fingerprint] = resume.split('.');
    if (fingerprint !== this.#fingerprint || !/^[0-9a-z]{1,11}$/.test(seq!)) return undefined;
    return Number.parseInt(seq!, 36);
  }
}
