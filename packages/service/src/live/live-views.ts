import { DependencyIndex, Matcher, netChanges, type DocumentChange, type MatchedBy, type Node } from '@uproar/core';
import type { WatchTarget } from '@uproar/protocol';
import { ByteBudget } from '../limits/byte-budget.js';
import { DEFAULT_BUDGETS } from '../limits/limits.js';
import { LiveWork } from '../limits/live-work.js';
import type { MetricsRecorder } from '../metrics/metrics-recorder.js';
import type { AppliedCommit, Store } from '../store/index.js';
import type { UsageMeter } from '../usage/usage-meter.js';
import type { LiveEvent } from './live-event.js';
import { LiveView, type CommitPosition, type ViewBudgets } from './live-view.js';
import { type Sink, type Subscription } from './subscription.js';
import { createSource } from './create-source.js';
import { type Source } from './source.js';
import { type ReadScope } from '../reading/read-scope.js';

/** The list of collections changes with every commit; its watchers are updated at most this often. */
const COLLECTION_LIST_INTERVAL_MS = 250;

/** A point that no view can resume from, so that it begins with a reset. */
const BEGIN_ANEW = '';

/** All live views of a store, and their watchers. */
export class LiveViews implements CommitPosition {
  readonly #store: Store;
  readonly #recorder: MetricsRecorder;
  readonly #budgets: ViewBudgets;
  readonly #usage: Pick<UsageMeter, 'counterFor'> | undefined;
  readonly #byKey = new Map<string, LiveView>();
  readonly #matchers = new Map<string, Matcher<LiveView>>();
  /** Which views show which related documents. */
  readonly #dependencies = new DependencyIndex<LiveView>();
  readonly #stopListening: () => void;
  #lastName = 0;
  #distributedSeq: number;
  #collectionListTimer: NodeJS.Timeout | undefined;

  constructor(
    store: Store,
    recorder: MetricsRecorder,
    budgets: ViewBudgets = defaultBudgets(),
    usage?: Pick<UsageMeter, 'counterFor'>,
  ) {
    this.#budgets = budgets;
    this.#store = store;
    this.#recorder = recorder;
    this.#usage = usage;
    this.#distributedSeq = store.log.seq;
    this.#stopListening = store.log.onApplied((group) => this.#distribute(group));
  }

  get seq(): number {
    return this.#store.log.seq;
  }

  get distributed(): boolean {
    return this.#distributedSeq === this.seq;
  }

  /** How many watches were ended because their work was too much. */
  get endedForWork(): number {
    return this.#budgets.liveWork.ended;
  }

  /** How many different views there are. */
  get size(): number {
    return this.#byKey.size;
  }

  /** How many connections watch them, each counted for everything it watches. */
  get watches(): number {
    let sum = 0;
    for (const { watchers } of this.#byKey.values()) sum += watchers;
    return sum;
  }

  /**
   * Begins a watch for a caller. `send` gets the first event, now or later; the sink gets later ones. `fail` is called
   * if the first cannot be produced.
   *
   * @throws {ProblemError} `bad-query`, or `not-allowed`
   */
  watch(
    target: WatchTarget,
    scope: ReadScope,
    sink: Sink,
    resume: string | undefined,
    send: (first: LiveEvent) => void,
    fail: (error: unknown) => void = () => undefined,
  ): Subscription {
    return this.#join(createSource(target, this.#store, scope), target, sink, scope, resume, send, fail);
  }

  /**
   * Resumes a suspended watch with the present permissions. If it may show something else than before, it moves to
   * another view, which begins with a reset.
   *
   * @throws {ProblemError} `not-allowed`; then the watch has ended
   */
  review(
    subscription: Subscription,
    target: WatchTarget,
    scope: ReadScope,
    send: (first: LiveEvent) => void,
    fail: (error: unknown) => void,
  ): Subscription {
    let source: Source;
    try {
      source = createSource(target, this.#store, scope);
    } catch (error) {
      subscription.stop();
      throw error;
    }
    if (source.key === subscription.view.source.key) {
      subscription.resume();
      return subscription;
    }
    subscription.stop();
    return this.#join(
      source,
      target,
      subscription.sink,
      scope,
      subscription.begun ? BEGIN_ANEW : undefined,
      send,
      fail,
    );
  }

  #join(
    source: Source,
    target: WatchTarget,
    sink: Sink,
    { holder, identity }: ReadScope,
    resume: string | undefined,
    send: (first: LiveEvent) => void,
    fail: (error: unknown) => void,
  ): Subscription {
    this.#budgets.bytes.check(holder);
    let view = this.#byKey.get(source.key);
    if (!view) {
      view = new LiveView(
        `w${++this.#lastName}`,
        source,
        target,
        this.#store.id,
        this.#recorder,
        this,
        (empty) => this.#forget(empty),
        this.#budgets,
        holder,
      );
      this.#byKey.set(source.key, view);
      this.#listenFor(view);
      if (source.collection !== undefined) this.#matcherFor(source.collection).add(view, source.where);
    } else if (source.collection === undefined) {
      this.#distributeCollectionList();
    }
    const usage = this.#usage?.counterFor(identity, source.collection ?? '');
    return view.add(sink, holder, usage, resume, send, fail);
  }

  /** All views, and how changes find each of them. */
  *list(): Generator<{ view: LiveView; matchedBy: MatchedBy['kind'] }> {
    for (const view of this.#byKey.values()) {
      const { collection, where } = view.source;
      yield {
        view,
        matchedBy: collection === undefined ? 'every-change' : this.describeMatching(collection, where).kind,
      };
    }
  }

  /** The collections whose documents are shown as related ones. */
  get dependedCollections(): string[] {
    return this.#dependencies.collections;
  }

  /** How the matcher would file a query on a collection. */
  describeMatching(collection: string, where: Node | undefined): MatchedBy {
    return (this.#matchers.get(collection) ?? new Matcher()).describe(where);
  }

  close(): void {
    this.#stopListening();
    clearTimeout(this.#collectionListTimer);
  }

  #matcherFor(collection: string): Matcher<LiveView> {
    let matcher = this.#matchers.get(collection);
    if (!matcher) this.#matchers.set(collection, (matcher = new Matcher()));
    return matcher;
  }

  #listenFor(view: LiveView): void {
    view.source.listen?.({
      begin: (interest) => this.#dependencies.add(interest, view),
      end: (interest) => this.#dependencies.remove(interest, view),
    });
  }

  #forget(view: LiveView): void {
    view.source.close?.();
    this.#byKey.delete(view.source.key);
    const { collection } = view.source;
    if (collection === undefined) return;
    const matcher = this.#matcherFor(collection);
    matcher.remove(view);
    if (matcher.size === 0) this.#matchers.delete(collection);
  }

  /** Commits written together leave as one event: each view shows the state after the last of them. */
  #distribute(group: readonly AppliedCommit[]): void {
    const started = performance.now();
    const seq = group.at(-1)!.seq;
    const watched: DocumentChange[] = [];
    for (const { changes } of group) {
      for (const change of changes) if (this.#concerns(change.collection)) watched.push(change);
    }
    const concerned = new Map<LiveView, DocumentChange[]>();
    for (const change of watched.length > 1 ? netChanges(watched) : watched) {
      const matcher = this.#matchers.get(change.collection);
      const note = (view: LiveView) => {
        const changes = concerned.get(view);
        if (!changes) concerned.set(view, [change]);
        else if (changes.at(-1) !== change) changes.push(change);
      };
      if (change.before) matcher?.candidates(change.before, note);
      if (change.after) matcher?.candidates(change.after, note);
      this.#dependencies.interested(change, note);
    }
    this.#recorder.recordMatch(concerned.size, performance.now() - started);
    for (const [view, changes] of concerned) view.distribute(seq, changes, started);
    this.#distributedSeq = seq;
    if (concerned.size > 0) this.#recorder.recordDistribution(performance.now() - started);
    this.#collectionListTimer ??= setTimeout(
      () => this.#distributeCollectionList(),
      COLLECTION_LIST_INTERVAL_MS,
    ).unref();
  }

  #concerns(collection: string): boolean {
    return this.#matchers.has(collection) || this.#dependencies.concerns(collection);
  }

  #distributeCollectionList(): void {
    clearTimeout(this.#collectionListTimer);
    this.#collectionListTimer = undefined;
    for (const view of this.#byKey.values()) {
      if (view.source.collection === undefined) view.distribute(this.#store.log.seq, [], performance.now());
    }
  }
}

function defaultBudgets(): ViewBudgets {
  return {
    bytes: new ByteBudget(DEFAULT_BUDGETS),
    liveWork: new LiveWork(DEFAULT_BUDGETS),
    watchBytes: DEFAULT_BUDGETS.watchBytes,
  };
}
