import { createHash } from 'node:crypto';
import { exceedsSize, WorkLimitError, type DocumentChange, type JsonValue } from '@uproar/core';
import { ProblemError, type WatchTarget } from '@uproar/protocol';
import type { ByteBudget, ByteLease } from '../limits/byte-budget.js';
import { asCostly, tooManyBytes, tooMuchLiveWork } from '../limits/costs.js';
import type { LiveWork } from '../limits/live-work.js';
import { LiveEvent, type FullState } from './live-event.js';
import type { MetricsRecorder } from '../metrics/metrics-recorder.js';
import type { Delta, Source } from './source.js';

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
   * @param holder for whom the work of the watch is counted
   * @param fail is told when the watch cannot begin or go on
   */
  constructor(
    readonly view: LiveView,
    readonly sink: Sink,
    readonly holder: string,
    readonly fail: (error: unknown) => void,
  ) {}

  /** Whether its first event has gone out. */
  get begun(): boolean {
    return this.#begun;
  }

  /** Sends the first event of the watch by way of the caller, and what has happened since. */
  begin(first: LiveEvent, send: (event: LiveEvent) => void): void {
    if (this.#stopped) return;
    if (this.#suspended) {
      this.#heldFirst = () => this.begin(first, send);
      return;
    }
    this.#begun = true;
    this.#sentSeq = first.seq;
    this.view.noteSent(first);
    send(first);
    void this.catchUp();
  }

  /** Lets nothing pass until it is known whether it may still be seen. */
  suspend(): void {
    this.#suspended = true;
  }

  /** Goes on: what has happened meanwhile is sent. */
  goOn(): void {
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
      this.view.noteSent(event);
      this.sink.send(event);
    }
  }

  /** Notes that something has happened which is not sent yet. */
  fallBehind(): void {
    this.#behind = true;
    this.#behindSinceMs ??= Date.now();
  }

  /** How many commits there have been since what was sent last, and for how long it has been behind; zeros when it is not. */
  get lag(): { commits: number; ms: number } {
    if (!this.#behind || !this.#begun) return { commits: 0, ms: 0 };
    return { commits: this.view.seq - this.#sentSeq, ms: Date.now() - (this.#behindSinceMs ?? Date.now()) };
  }

  /**
   * Sends what was missed, as one event. Returns a promise while that is under way, and nothing when the connection is
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
      // Others are served before it goes on, however often it has to.
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

  async #takeSlowly(missed: LiveEvent | undefined | Promise<LiveEvent | undefined>): Promise<void> {
    // What cannot be told as a change, for whatever reason, is told as a whole.
    const event = (await Promise.resolve(missed).catch(() => undefined)) ?? (await this.view.fullState('reset'));
    if (!this.#stopped && !this.#suspended) this.#take(event);
  }

  #take(event: LiveEvent): void {
    if (!event.empty) {
      this.view.noteSent(event);
      this.sink.send(event);
      if (this.#behindSinceMs !== undefined) this.view.noteMerged(Date.now() - this.#behindSinceMs);
    }
    this.#sentSeq = event.seq;
    // While it was being found out what had happened, more may have.
    this.#behind = event.seq !== this.view.seq;
    if (!this.#behind) this.#behindSinceMs = undefined;
  }
}

/** A full state up to this size is kept while it holds, for others who begin to watch; all of them together up to the second. */
const MAX_KEPT_CHARACTERS = 4 * 1024 * 1024;
const MAX_KEPT_IN_ALL = 32 * 1024 * 1024;

/** Less work than this for each of those who watch is not counted. */
const LITTLE_WORK = 100;

/** What the views of a store share, and are bounded by. */
export interface ViewBudgets {
  bytes: ByteBudget;
  liveWork: LiveWork;
  watchBytes: number;
}

/** How much of full states is kept in memory, for all views together. */
const kept = { characters: 0 };

/** What everybody who watches the same thing has in common. */
export class LiveView {
  readonly #subscriptions = new Set<Subscription>();
  readonly #fingerprint: string;
  readonly #changesSince = new Map<number, LiveEvent | undefined | Promise<LiveEvent | undefined>>();
  #changesAreOf = -1;
  #lastFull: LiveEvent | undefined;
  readonly #lease: ByteLease;
  #refilling: Promise<void> | undefined;
  readonly cost = { sinceMs: Date.now(), tested: 0, altered: 0, deliveries: 0, sentBytes: 0, milliseconds: 0 };

  /** @param target what is watched, as it was asked for first */
  constructor(
    readonly name: string,
    readonly source: Source,
    readonly target: WatchTarget,
    storeId: string,
    private readonly recorder: MetricsRecorder,
    private readonly currentSeq: () => number,
    private readonly onEmpty: (view: LiveView) => void,
    private readonly budgets: ViewBudgets,
    holder: string,
  ) {
    this.#lease = budgets.bytes.open(holder);
    this.#fingerprint = createHash('sha256').update(storeId).update(source.key).digest('base64url').slice(0, 10);
  }

  /** How many connections watch it. */
  get watchers(): number {
    return this.#subscriptions.size;
  }

  /** Counts an event that goes out to one of the watchers. */
  noteSent({ members }: LiveEvent): void {
    this.cost.deliveries++;
    this.cost.sentBytes += members.length;
    this.recorder.recordDelivery(members.length);
  }

  /** Notes that a watcher was sent as one what it had missed in so many milliseconds. */
  noteMerged(durationMs: number): void {
    this.recorder.recordMerge(durationMs);
  }

  /** The seq that the view is at, or comes to without delay. */
  get seq(): number {
    return this.source.seq ?? this.currentSeq();
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
    const last = this.#lastFull;
    if (last?.name === name && last.seq === this.seq) return last;
    const state = this.source.read();
    if (state instanceof Promise) return state.then((full) => this.#full(name, full));
    const event = this.#full(name, state);
    const { length } = event.members;
    this.#keep(undefined);
    if (length < MAX_KEPT_CHARACTERS && kept.characters + length < MAX_KEPT_IN_ALL) this.#keep(event);
    return event;
  }

  /** @throws {ProblemError} `query-too-costly`, or `budget-exceeded` when it is too much to be held */
  #full(name: 'result' | 'reset', state: FullState): LiveEvent {
    const bytes = state.documents.reduce((sum, { length }) => sum + length, 0);
    if (bytes > this.budgets.watchBytes) throw tooManyBytes('The state of this watch', this.budgets.watchBytes);
    if (this.source.holds) this.#lease.set(2 * bytes);
    return LiveEvent.full(name, this.name, this.resumePoint(state.seq), state);
  }

  #keep(event: LiveEvent | undefined): void {
    kept.characters += (event?.members.length ?? 0) - (this.#lastFull?.members.length ?? 0);
    this.#lastFull = event;
  }

  /** What altered the state after `seq`, as one event; undefined when that is not known any more. */
  changeSince(seq: number): LiveEvent | undefined | Promise<LiveEvent | undefined> {
    const now = this.seq;
    if (seq === now && this.source.ready) return this.#event({ seq: now, patch: [] });
    if (this.#changesAreOf !== now) {
      this.#changesSince.clear();
      this.#changesAreOf = now;
    }
    if (!this.#changesSince.has(seq)) {
      const alteration = this.#alterationSince(seq);
      this.#changesSince.set(
        seq,
        alteration instanceof Promise
          ? alteration.then((found) => found && this.#eventUnlessTooLarge(found))
          : alteration && this.#eventUnlessTooLarge(alteration),
      );
    }
    return this.#changesSince.get(seq);
  }

  /**
   * Lets a connection take part. Its first event is the missing change where it resumes from a point that is still
   * known, and otherwise everything.
   *
   * @param send sends the first event, now or soon
   * @param fail is told when the first event cannot be had
   */
  add(
    sink: Sink,
    holder: string,
    resume: string | undefined,
    send: (first: LiveEvent) => void,
    fail: (error: unknown) => void,
  ): Subscription {
    const subscription = new Subscription(this, sink, holder, fail);
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
    this.#keep(undefined);
    this.#lease.release();
    this.onEmpty(this);
  }

  /**
   * Tells everybody what net changes of the collection did, if they did anything here.
   *
   * @param sinceMs when they were on disk, by `performance.now()`
   */
  distribute(seq: number, changes: readonly DocumentChange[], sinceMs: number): void {
    const started = performance.now();
    this.cost.tested++;
    const { meters = [] } = this.source;
    const left = meters.length === 0 ? Infinity : this.#workLeft(started);
    if (left <= 0) return this.#charge(0, started);
    const before = meters.reduce((sum, { total }) => sum + total, 0);
    for (const meter of meters) meter.limitTo(left);
    try {
      this.#distribute(seq, changes, sinceMs);
    } catch (error) {
      // What goes wrong with one view must not keep the others from being told.
      this.#failOn(error);
    }
    for (const meter of meters) meter.limitTo(Infinity);
    const steps = meters.reduce((sum, { total }) => sum + total, 0) - before;
    if (steps > LITTLE_WORK * this.#subscriptions.size) this.#charge(steps, started);
    this.cost.milliseconds += performance.now() - started;
  }

  #distribute(seq: number, changes: readonly DocumentChange[], sinceMs: number): void {
    let alteration: Delta | Promise<Delta>;
    try {
      alteration = this.source.apply(seq, changes);
    } catch (error) {
      return this.#failOn(error);
    }
    if (!(alteration instanceof Promise)) {
      this.#tell(alteration, sinceMs);
      return;
    }
    this.#refilling = alteration
      .then((found) => this.#tell(found, sinceMs))
      .catch((error: unknown) => this.#failOn(error))
      .finally(() => (this.#refilling = undefined));
  }

  /** How many steps those who watch may still take together. */
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

  /** What costs too much to go on with ends; after anything else each connection asks anew when it catches up. */
  #failOn(error: unknown): void {
    const costly = error instanceof WorkLimitError ? tooMuchLiveWork() : asCostly(error);
    if (!isBudgetProblem(costly)) return this.#fallBehind();
    for (const subscription of [...this.#subscriptions]) subscription.end(costly);
  }

  /** When the store cannot be read nobody knows what the view holds; each connection asks anew when it catches up. */
  #fallBehind(): void {
    for (const subscription of this.#subscriptions) subscription.fallBehind();
  }

  #tell(alteration: Delta, sinceMs: number): void {
    this.#keep(undefined);
    if (alteration.patch.length === 0 && alteration.more === undefined) return;
    let event: LiveEvent;
    try {
      event = this.#event(alteration);
    } catch (error) {
      return this.#failOn(error);
    }
    this.cost.altered++;
    for (const subscription of this.#subscriptions) subscription.deliver(event);
    this.recorder.recordDelay(performance.now() - sinceMs);
  }

  #first(resume: string | undefined): LiveEvent | Promise<LiveEvent> {
    const seq = resume === undefined ? undefined : this.#seqOf(resume);
    const instead = () => this.fullState(resume === undefined ? 'result' : 'reset');
    const missed = seq === undefined ? undefined : this.changeSince(seq);
    return missed instanceof Promise ? missed.then((event) => event ?? instead()) : (missed ?? instead());
  }

  #alterationSince(seq: number): ReturnType<Source['since']> {
    try {
      return this.source.since(seq);
    } catch {
      return undefined;
    }
  }

  #event({ seq, patch, more }: Delta): LiveEvent {
    if (exceedsSize(patch as unknown as JsonValue, this.budgets.watchBytes)) {
      throw tooManyBytes('A change of this watch', this.budgets.watchBytes);
    }
    return LiveEvent.change(this.name, this.resumePoint(seq), seq, patch, more);
  }

  /** What is too much for one event is told as a whole state instead. */
  #eventUnlessTooLarge(alteration: Delta): LiveEvent | undefined {
    try {
      return this.#event(alteration);
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

function isBudgetProblem(error: unknown): boolean {
  return error instanceof ProblemError && /\/(?:query-too-costly|budget-exceeded)$/.test(error.problem.type);
}
