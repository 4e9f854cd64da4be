import { createHash } from 'node:crypto';
import { exceedsSize, WorkLimitError, type DocumentChange, type JsonValue } from '@uproar/core';
import { type WatchTarget } from '@uproar/protocol';
import type { ByteBudget, ByteLease } from '../limits/byte-budget.js';
import { asLimitProblem, tooManyBytes, tooMuchLiveWork } from '../limits/costs.js';
import type { LiveWork } from '../limits/live-work.js';
import { LiveEvent, StateText, type FullState } from './live-event.js';
import type { MetricsRecorder } from '../metrics/metrics-recorder.js';
import type { Delta, Source } from './source.js';
import { isBudgetProblem, Subscription, type DeliveryCounter, type Sink, type SubscribedView } from './subscription.js';

/** The text of a full state is kept while it holds, for others who begin to watch: of all views so much, in UTF-16 code units. */
const MAX_KEPT = 32 * 1024 * 1024;

/** One that is larger than the first is kept only for so long after it was last used, in milliseconds. */
const LARGE = 4 * 1024 * 1024;
const LARGE_KEPT_MS = 5000;

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

/** How much of full states is kept in memory, for all views together. */
const kept = { characters: 0 };

/** A reading of a whole state that takes longer, for all who wait for it. */
interface Reading {
  /** How often the view had changed when it began; undefined before it begins. */
  changes?: number;
  state: Promise<LiveState>;
}

/** The whole state of a view at a seq. */
interface LiveState {
  readonly seq: number;
  readonly text: StateText;
}

/** What all watchers of the same target share. */
export class LiveView implements SubscribedView {
  readonly #subscriptions = new Set<Subscription>();
  readonly #fingerprint: string;
  /** The changes from earlier seqs to the present one, as far as someone has asked for them. */
  #changesSince: { to: number; from: Map<number, LiveEvent | undefined | Promise<LiveEvent | undefined>> } | undefined;
  /** The last event with the whole state, as long as that has not changed. */
  #lastFull: LiveEvent | undefined;
  #forgetting: NodeJS.Timeout | undefined;
  readonly #lease: ByteLease;
  #refilling: Promise<void> | undefined;
  /** How often something has happened that may have changed the state. */
  #changes = 0;
  /** A reading of the whole state in progress, and the one that follows it. */
  #reading: Reading | undefined;
  #nextReading: Reading | undefined;
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
    const last = this.#lastFull;
    const holds = last?.seq === this.seq || (this.source.seq === undefined && this.position.distributed);
    if (last?.state && holds) {
      this.#forgetting?.refresh();
      return last.name === name && last.seq === this.seq ? last : this.#full(name, { seq: this.seq, text: last.state });
    }
    const state = this.#read();
    return state instanceof Promise ? state.then((found) => this.#full(name, found)) : this.#full(name, state);
  }

  /** An event with a state, which is kept for others while it holds. */
  #full(name: 'result' | 'reset', { seq, text }: LiveState): LiveEvent {
    const event = LiveEvent.full(name, this.name, this.resumePoint(seq), seq, text);
    if (text === this.#lastFull?.state) this.#lastFull = event;
    return event;
  }

  /**
   * Reads the state. However many ask while it is being read, it is read once for those who came before the next change,
   * and once more for all who came after it.
   */
  #read(): LiveState | Promise<LiveState> {
    const present = this.#reading;
    if (present?.changes === this.#changes) return present.state;
    if (present) return (this.#nextReading ??= this.#readAfter(present)).state;
    const changes = this.#changes;
    const state = this.source.read();
    if (!(state instanceof Promise)) return this.#toText(state, changes);
    this.#reading = { changes, state: state.then((found) => this.#toText(found, changes)) };
    this.#endWith(this.#reading);
    return this.#reading.state;
  }

  #readAfter(present: Reading): Reading {
    const next: Reading = {
      state: present.state
        .catch(() => undefined)
        .then(async () => {
          this.#reading = next;
          this.#nextReading = undefined;
          if (this.#subscriptions.size === 0) throw new Error('The watch has ended.');
          const changes = (next.changes = this.#changes);
          return this.#toText(await this.source.read(), changes);
        }),
    };
    this.#endWith(next);
    return next;
  }

  #endWith(reading: Reading): void {
    const end = () => {
      if (this.#reading === reading) this.#reading = undefined;
    };
    reading.state.then(end, end);
  }

  /**
   * @param changes how often the view had changed when the state was read
   * @throws {ProblemError} `query-too-costly`, or `budget-exceeded` when it is too much to be held
   */
  #toText(state: FullState, changes: number): LiveState {
    const bytes = state.documents.reduce((sum, { length }) => sum + length, 0);
    if (bytes > this.budgets.watchBytes) throw tooManyBytes('The state of this watch', this.budgets.watchBytes);
    if (this.source.holds) this.#lease.set(2 * bytes);
    const text = new StateText(state);
    if (changes === this.#changes && !this.#refilling) this.#keep(text, state.seq);
    return { seq: state.seq, text };
  }

  /** Keeps a state for others, or with none nothing any more. */
  #keep(text?: StateText, seq = 0): void {
    clearTimeout(this.#forgetting);
    this.#forgetting = undefined;
    kept.characters -= this.#lastFull?.state?.text.length ?? 0;
    this.#lastFull = undefined;
    const length = text?.text.length ?? 0;
    if (!text || this.#subscriptions.size === 0 || kept.characters + length > MAX_KEPT) return;
    kept.characters += length;
    this.#lastFull = LiveEvent.full('result', this.name, this.resumePoint(seq), seq, text);
    if (length > LARGE) this.#forgetting = setTimeout(() => this.#keep(), LARGE_KEPT_MS).unref();
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
    this.#keep();
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
    this.#changes++;
    this.#keep();
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
    if (exceedsSize(patch as unknown as JsonValue, this.budgets.watchBytes)) {
      throw tooManyBytes('A change of this watch', this.budgets.watchBytes);
    }
    return LiveEvent.change(this.name, this.resumePoint(seq), seq, patch, more);
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
