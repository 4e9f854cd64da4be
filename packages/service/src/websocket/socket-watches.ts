import {
  createProblem,
  problemError,
  ProblemError,
  type ConnectionWatch,
  type Problem,
  type WatchTarget,
} from '@uproar/protocol';
import { asProblem } from '../requests/problems.js';
import { describeWatch } from '../live/describe-watch.js';
import type { LiveEvent } from '../live/live-event.js';
import type { Sink, Subscription } from '../live/subscription.js';
import type { LiveViews } from '../live/live-views.js';
import type { ReadScope } from '../reading/read-scope.js';

/** Something that a connection watches. */
interface OpenWatch {
  target: WatchTarget;
  subscription: Subscription;
  /** How often it was asked for and not ended. */
  count: number;
  /** The calls that have not been answered yet. */
  waiting: (string | number)[];
}

/** The output of a connection for its watches. */
export interface WatchOutput extends Sink {
  /** Answers a call with the first event of its watch. */
  answerWith(id: string | number, first: LiveEvent): void;
  /** Resets a watch that the client knows by its previous id. */
  sendRenamed(event: LiveEvent, was: string): void;
  refuse(id: string | number, error: unknown): void;
  notify(message: string): void;
}

/** The watches of one connection, by id. They continue when permissions change. */
export class SocketWatches {
  readonly #views: LiveViews;
  readonly #output: WatchOutput;
  readonly #byName = new Map<string, OpenWatch>();

  constructor(views: LiveViews, output: WatchOutput) {
    this.#views = views;
    this.#output = output;
  }

  get size(): number {
    return this.#byName.size;
  }

  /** Their parts in views. */
  get subscriptions(): Subscription[] {
    return [...this.#byName.values()].map(({ subscription }) => subscription);
  }

  /** The targets of the watches and their lag. */
  describe(): ConnectionWatch[] {
    return [...this.#byName.values()].map(({ target, subscription }) => describeWatch(target, subscription));
  }

  /**
   * Begins a watch. The call is answered before the watch takes part in any change.
   *
   * @throws {ProblemError} `bad-query`, or `not-allowed`
   */
  begin(id: string | number, target: WatchTarget, resume: string | undefined, scope: ReadScope): void {
    const watch: OpenWatch = { target, count: 1, waiting: [id], subscription: undefined! };
    watch.subscription = this.#views.watch(
      target,
      scope,
      this.#output,
      resume,
      (first) => this.#answer(watch, first),
      (error) => this.#fail(watch, error),
    );
    this.#add(watch);
  }

  /** @throws {ProblemError} `no-such-watch` */
  leave(name: string): void {
    const known = this.#byName.get(name);
    if (!known) throw problemError('no-such-watch', `This connection has no watch "${name}".`);
    if (--known.count > 0) return;
    known.subscription.stop();
    this.#byName.delete(name);
  }

  /** Shows nothing more until they have been reviewed. */
  suspend(): void {
    for (const { subscription } of this.#byName.values()) subscription.suspend();
  }

  /** Resumes with the present permissions. */
  review(scope: ReadScope): void {
    for (const [name, watch] of [...this.#byName]) this.#review(name, watch, scope);
  }

  /** Ends all of them for a reason. */
  end(problem: Problem): void {
    for (const name of [...this.#byName.keys()]) this.#end(name, problem);
  }

  /** Removes the watches without notification. */
  stop(): void {
    for (const { subscription } of this.#byName.values()) subscription.stop();
    this.#byName.clear();
  }

  /** Watches of the same view are one, under one name. */
  #add(watch: OpenWatch): void {
    const { name } = watch.subscription.view;
    const known = this.#byName.get(name);
    if (known) {
      known.subscription.stop();
      watch.count += known.count;
      watch.waiting.push(...known.waiting.splice(0));
      if (watch.subscription.begun) void this.#answerLate(watch);
    }
    this.#byName.set(name, watch);
  }

  #answer(watch: OpenWatch, first: LiveEvent): void {
    for (const id of watch.waiting.splice(0)) this.#output.answerWith(id, first);
  }

  /** Pending calls for the same watch get the whole state. */
  async #answerLate(watch: OpenWatch): Promise<void> {
    if (watch.waiting.length === 0) return;
    try {
      this.#answer(watch, await watch.subscription.view.fullState('result'));
    } catch (error) {
      this.#fail(watch, error);
    }
  }

  #fail(watch: OpenWatch, error: unknown): void {
    const waiting = watch.waiting.splice(0);
    for (const id of waiting) this.#output.refuse(id, error);
    const { name } = watch.subscription.view;
    if (this.#byName.get(name) !== watch) return;
    if (waiting.length === 0) this.#end(name, problemOf(error));
    else this.#byName.delete(name);
  }

  #end(name: string, problem: Problem): void {
    const watch = this.#byName.get(name)!;
    this.#byName.delete(name);
    watch.subscription.stop();
    if (watch.waiting.length > 0) for (const id of watch.waiting) this.#output.refuse(id, new ProblemError(problem));
    else this.#output.notify(JSON.stringify({ jsonrpc: '2.0', method: 'end', params: { watch: name, problem } }));
  }

  #review(name: string, watch: OpenWatch, scope: ReadScope): void {
    // Another subscription may have replaced it in the meantime.
    if (this.#byName.get(name) !== watch) return;
    const before = watch.subscription;
    const send = before.begun
      ? (first: LiveEvent) => this.#output.sendRenamed(first, name)
      : (first: LiveEvent) => this.#answer(watch, first);
    try {
      watch.subscription = this.#views.review(before, watch.target, scope, send, (error) => this.#fail(watch, error));
    } catch (error) {
      this.#end(name, problemOf(error));
      return;
    }
    if (watch.subscription === before) return;
    this.#byName.delete(name);
    this.#add(watch);
  }
}

function problemOf(error: unknown): Problem {
  if (error instanceof ProblemError) return error.problem;
  return asProblem(error) ?? createProblem('internal', 'The service failed to continue this watch.');
}
