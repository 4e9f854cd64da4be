import { accessFor, splitAddress, type Policy } from '@uproar/core';
import { problemError, ProblemError, type DeliveryDetails, type DeliveryResult } from '@uproar/protocol';
import { prepareWireQuery } from '../reading/prepare-query.js';
import type { Store } from '../store/index.js';
import { DeliveryLog, describeAttempt } from './delivery-log.js';
import { encodeEvent, eventOf, sign, testEvent, type HookEvent } from './hook-events.js';
import { HookWorker, isTaken, type Attempt } from './hook-worker.js';
import type { Hook, Hooks } from './hooks.js';
import type { Sender } from './send.js';

/** How often progress is written while something is delivered, and otherwise, in milliseconds. */
const SAVE_MS = 1000;
const QUIET_SAVE_MS = 10_000;

/** How long the service waits for the answers to deliveries under way before it stops, in milliseconds. */
const FINISH_WITHIN_MS = 1000;

/** How often the runner checks whether this process is in charge, in milliseconds. */
const LOOK_MS = 500;

/** What the runner works with. */
export interface RunnerParts {
  store: Store;
  hooks: Hooks;
  sender: Sender;
  policy: () => Policy;
  /** Whether this process delivers. In a cluster one node does. */
  isInCharge: () => boolean;
  /** Deliveries that fail for so long pause the hook, in milliseconds. */
  giveUpMs: number;
}

/** Called with what happens. */
export interface RunnerEvents {
  onAttempt: (hook: Hook, attempt: Attempt, delayMs: number) => void;
  /** The service has paused a hook. */
  onPaused: (hook: Hook, reason: string) => void;
  onFault: (error: unknown) => void;
}

/** Delivers the changes of all hooks while this process is in charge, and writes how far each has come. */
export class HookRunner {
  readonly log: DeliveryLog;
  readonly #parts: RunnerParts;
  readonly #workers = new Map<string, HookWorker>();
  /** Workers that were stopped, and whose progress is still to be written. */
  #stopped: HookWorker[] = [];
  readonly #stopListening: () => void;
  readonly #timers: NodeJS.Timeout[];
  #saving: Promise<void> = Promise.resolve();
  events: RunnerEvents = { onAttempt: () => undefined, onPaused: () => undefined, onFault: () => undefined };

  constructor(parts: RunnerParts) {
    this.#parts = parts;
    this.log = new DeliveryLog(parts.store);
    parts.hooks.onChange = () => this.#arrange();
    const stops = [
      parts.store.log.onApplied(() => this.#workers.forEach((worker) => worker.wake())),
      parts.store.log.onBatch(({ records }) => {
        if (!records.some(({ kind }) => kind === 'journal-truncated')) return;
        this.#workers.forEach((worker) => worker.noteCut());
      }),
    ];
    this.#stopListening = () => stops.forEach((stop) => stop());
    this.#timers = [
      setInterval(() => this.#arrange(), LOOK_MS).unref(),
      setInterval(() => void this.#save(), SAVE_MS).unref(),
    ];
    this.#arrange();
  }

  /** A hook as it is now: if this process delivers for it, its progress includes what is not written yet. */
  current(hook: Hook): Hook {
    const worker = this.#workers.get(hook.id);
    return worker ? { ...hook, progress: worker.state } : hook;
  }

  /** Sends an event of a type of its own, to try a hook out. */
  async test(hook: Hook): Promise<DeliveryResult> {
    const { store } = this.#parts;
    return this.#sendNow(hook, testEvent(store.id, hook.name, store.log.seq, Date.now()), 1);
  }

  /**
   * Sends the event of a delivery again, now and out of order.
   *
   * @throws {ProblemError} `no-such-delivery`, or `journal-truncated`
   */
  async sendAgain(hook: Hook, number: number): Promise<DeliveryResult> {
    const { attempt, subject, seq } = await this.log.get(hook.id, number);
    const event = subject === undefined ? undefined : this.#eventAt(hook, subject, seq);
    if (!event)
      throw problemError(
        'journal-truncated',
        'The journal does not have this change any more, or the hook no longer delivers it.',
      );
    return this.#sendNow(hook, event, attempt + 1);
  }

  /** A delivery, with what was sent if the change is still in the journal. */
  async details(hook: Hook, number: number): Promise<DeliveryDetails> {
    const delivery = await this.log.get(hook.id, number);
    const { subject, seq, time } = delivery;
    const event = subject === undefined ? undefined : this.#eventAt(hook, subject, seq);
    if (!event) return delivery;
    const post = this.#encode(hook, event, Date.parse(time));
    return { ...delivery, request: { method: 'POST', url: hook.definition.url, ...post } };
  }

  /** Stops once deliveries under way are answered, so that they are not repeated, and writes how far each hook has come. */
  async close(): Promise<void> {
    for (const timer of this.#timers) clearInterval(timer);
    this.#stopListening();
    await Promise.all([...this.#workers.values()].map((worker) => worker.finish(FINISH_WITHIN_MS)));
    await this.#save(true);
    for (const worker of this.#workers.values()) worker.stop();
    this.#workers.clear();
    await this.log.flush();
    this.#parts.sender.close();
  }

  /** Starts and stops workers, as there are hooks. */
  #arrange(): void {
    const { hooks, isInCharge } = this.#parts;
    const wanted = isInCharge() ? hooks.list().filter(({ paused }) => !paused) : [];
    for (const [id, worker] of this.#workers) {
      const hook = wanted.find((other) => other.id === id);
      if (hook && sameWork(hook, worker.hook)) continue;
      worker.stop();
      this.#workers.delete(id);
      // It goes on where it is, unless it is to begin elsewhere.
      if (hook?.run === worker.hook.run) this.#start({ ...hook, progress: worker.state });
      else this.#stopped.push(worker);
    }
    if (this.#stopped.length > 0) void this.#save(true);
    for (const hook of wanted) if (!this.#workers.has(hook.id)) this.#start(hook);
  }

  #start(hook: Hook): void {
    const { store, sender, policy, giveUpMs } = this.#parts;
    const worker = new HookWorker(hook, {
      store,
      sender,
      policy,
      giveUpMs,
      onAttempt: (attempt, changeMs) => {
        this.log.add(attempt);
        this.events.onAttempt(hook, attempt, Math.max(0, attempt.timeMs + attempt.answer.durationMs - changeMs));
      },
      onFault: (error) => this.events.onFault(error),
      pause: (reason) => void this.#pause(hook, reason),
    });
    this.#workers.set(hook.id, worker);
    worker.wake();
  }

  async #pause(hook: Hook, reason: string): Promise<void> {
    try {
      await this.#save(true);
      await this.#parts.hooks.pause(hook.id, reason, hook.run);
      this.events.onPaused(hook, reason);
    } catch (error) {
      // It was removed meanwhile, or the disk is full; then it fails again, and is paused later.
      if (!(error instanceof ProblemError)) this.events.onFault(error);
    }
  }

  /** Writes how far the hooks have come, one record after another. */
  #save(now = false): Promise<void> {
    this.#saving = this.#saving.then(() => this.#saveNow(now));
    return this.#saving;
  }

  async #saveNow(now: boolean): Promise<void> {
    const { store } = this.#parts;
    const workers = [...this.#stopped, ...this.#workers.values()];
    this.#stopped = [];
    const hooks = workers.flatMap((worker) => {
      const { id, run } = worker.hook;
      const progress = worker.takeProgress(Date.now(), now ? 0 : QUIET_SAVE_MS);
      return progress ? [{ id, run, ...progress }] : [];
    });
    if (hooks.length === 0) return;
    // What could not be written is delivered again after a crash; the next record has it.
    await store.log.propose({ kind: 'hook-progress', timeMs: Date.now(), hooks }).catch(() => undefined);
  }

  async #sendNow(hook: Hook, event: HookEvent, attempt: number): Promise<DeliveryResult> {
    const timeMs = Date.now();
    const { url, timeoutSeconds } = hook.definition;
    const post = this.#encode(hook, event, timeMs);
    const answer = await this.#parts.sender.post(url, post, timeoutSeconds * 1000);
    const made = {
      hook: hook.id,
      event: event.attributes,
      attempt,
      timeMs,
      answer,
      delivered: isTaken(answer),
      sentBytes: Buffer.byteLength(post.body),
    };
    this.log.add(made);
    return describeAttempt(made);
  }

  #encode(hook: Hook, event: HookEvent, timeMs: number) {
    return sign(encodeEvent(event, hook.definition.format), event.attributes.id, hook.secretsAt(timeMs), timeMs);
  }

  /** The event for what a commit did to a document. */
  #eventAt({ definition }: Hook, subject: string, seq: number): HookEvent | undefined {
    const { store, policy } = this.#parts;
    const { collection, id } = splitAddress(subject);
    const number = store.collections.get(collection)?.number;
    if (number === undefined || collection !== definition.collection) return undefined;
    const [change] = store.journal.commitChanges({ collection: number, id }, seq - 1, seq, 1).changes;
    if (!change) return undefined;
    const { where, fields, kinds, claims } = definition;
    const access = accessFor(policy(), claims === undefined ? { scope: 'read' } : { claims }, collection);
    const query = prepareWireQuery({ from: collection, where, fields, limit: 'none' }, true);
    return eventOf(store.id, change, access, { kinds, query, hasFields: fields !== undefined });
  }
}

/** Whether a worker for one hook does what one for the other does. */
function sameWork(hook: Hook, other: Hook): boolean {
  return (
    hook.run === other.run &&
    hook.oldSecretUntilMs === other.oldSecretUntilMs &&
    hook.secretsAt(0)[0] === other.secretsAt(0)[0] &&
    JSON.stringify(hook.definition) === JSON.stringify(other.definition)
  );
}
