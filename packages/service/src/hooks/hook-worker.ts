import { randomInt } from 'node:crypto';
import type { ClientRequest } from 'node:http';
import { setTimeout as sleep } from 'node:timers/promises';
import { accessFor, formatTime, WorkLimitError, type Policy, type Rights } from '@uproar/core';
import { ProblemError } from '@uproar/protocol';
import { prepareWireQuery } from '../reading/prepare-query.js';
import type { CommitChange, Store } from '../store/index.js';
import { DeliveryPlan, type OpenDocument } from './delivery-plan.js';
import { encodeEvent, eventOf, missedEvent, sign, type HookEvent, type Selection } from './hook-events.js';
import type { Hook } from './hooks.js';
import type { Answer, Sender } from './send.js';

/**
 * Documents with changes that are under way or tried again, for one hook. Beyond, it waits with reading on; the commit that
 * reaches this number is taken whole.
 */
const MAX_OPEN = 1000;

/** Changes read at a time, in number and bytes, and how long reading may go on before others are served, in milliseconds. */
const CHANGES_AT_ONCE = 200;
const BYTES_AT_ONCE = 2 * 1024 * 1024;
const SLICE_MS = 4;

/** Changes of a document that the hook does not deliver and that are skipped before other requests are served. */
const SKIPPED_AT_ONCE = 50;

/** How long to wait after an error of this side, in milliseconds. */
const AFTER_FAULT_MS = 10_000;

/** How long to wait before the receiver is told again what it missed, in milliseconds. */
const RETRY_MISSED_MS = 30_000;

/** How long to wait while the deliveries of all hooks take too much memory, in milliseconds. */
const FULL_WAIT_MS = 50;

/** The status by which a receiver says that it does not want any more (RFC 9110, section 15.5.11). */
const GONE = 410;

/** An attempt to deliver. */
export interface Attempt {
  hook: string;
  event: HookEvent['attributes'];
  attempt: number;
  timeMs: number;
  answer: Answer;
  delivered: boolean;
  /** The bytes of what was posted. */
  sentBytes: number;
}

/** What a worker works with. */
export interface WorkerParts {
  store: Pick<Store, 'id' | 'journal' | 'collections' | 'log'>;
  sender: Sender;
  policy: () => Policy;
  /** Deliveries that fail for so long pause the hook, in milliseconds. */
  giveUpMs: number;
  onAttempt: (attempt: Attempt, changeMs: number) => void;
  /** Called with errors of this side. */
  onFault: (error: unknown) => void;
  /** Pauses the hook, for a reason. */
  pause: (reason: string) => void;
}

/** The next change of a document, and its event if the hook delivers it. */
type NextChange = { change: CommitChange; event?: HookEvent } | { change?: undefined; event?: undefined };

/** Delivers the changes of one hook, as long as it is not stopped. */
export class HookWorker {
  readonly hook: Hook;
  readonly #parts: WorkerParts;
  readonly #plan: DeliveryPlan;
  readonly #selection: Selection;
  readonly #rights: Rights;
  readonly #underWay = new Set<ClientRequest>();
  readonly #deliveries = new Set<Promise<void>>();
  #finishing = false;
  #stopped = false;
  /** Whether the beginning of the journal may have moved. */
  #journalCut = true;
  #timer: NodeJS.Timeout | undefined;
  #scheduled = false;
  #tellingMissed = false;
  #missedDueMs = 0;
  /** What the latest record of its progress says. */
  #saved: string;
  #deliveredSince = false;
  #savedMs = 0;

  constructor(hook: Hook, parts: WorkerParts) {
    this.hook = hook;
    this.#parts = parts;
    const { collection, where, fields, kinds, parallel, claims } = hook.definition;
    this.#plan = new DeliveryPlan(hook.progress, { parallel, maxOpen: MAX_OPEN, random: () => randomInt(1000) / 1000 });
    this.#saved = JSON.stringify(hook.progress);
    const query = prepareWireQuery({ from: collection, where, fields, limit: 'none' }, true);
    this.#selection = { kinds, query, hasFields: fields !== undefined };
    this.#rights = claims === undefined ? { scope: 'read' } : { claims };
  }

  /** Looks for something to do, soon. */
  wake(): void {
    if (this.#scheduled || this.#stopped || this.#finishing) return;
    this.#scheduled = true;
    setImmediate(() => {
      this.#scheduled = false;
      this.#pump();
    });
  }

  /** The beginning of the journal has moved. */
  noteCut(): void {
    this.#journalCut = true;
    this.wake();
  }

  /** Begins no more deliveries, and waits for the answers to deliveries under way, at most for the given milliseconds. */
  async finish(withinMs: number): Promise<void> {
    this.#finishing = true;
    clearTimeout(this.#timer);
    const waiting = new AbortController();
    await Promise.race([
      Promise.all(this.#deliveries),
      sleep(withinMs, undefined, { signal: waiting.signal }).catch(() => undefined),
    ]);
    waiting.abort();
  }

  /** Stops at once. What is under way counts as not delivered. */
  stop(): void {
    this.#stopped = true;
    for (const request of this.#underWay) request.destroy();
    clearTimeout(this.#timer);
  }

  /** Its progress, if it is time to write it. */
  takeProgress(nowMs: number, quietMs: number): Hook['progress'] | undefined {
    if (!this.#deliveredSince && nowMs - this.#savedMs < quietMs) return undefined;
    const { progress } = this.#plan;
    const text = JSON.stringify(progress);
    if (text === this.#saved) return undefined;
    this.#saved = text;
    this.#savedMs = nowMs;
    this.#deliveredSince = false;
    return progress;
  }

  /** Its state now. */
  get state() {
    return this.#plan.progress;
  }

  #pump(): void {
    if (this.#stopped || this.#finishing) return;
    clearTimeout(this.#timer);
    try {
      this.#scan();
      const nowMs = Date.now();
      const { sender } = this.#parts;
      while (!sender.isFull) {
        const document = this.#plan.next(nowMs);
        if (!document) break;
        const delivery = this.#deliver(document).finally(() => this.#deliveries.delete(delivery));
        this.#deliveries.add(delivery);
      }
      if (sender.isFull) this.#timer = setTimeout(() => this.wake(), FULL_WAIT_MS).unref();
      this.#tellMissed(nowMs);
    } catch (error) {
      return this.#fail(error);
    }
    const dueMs = this.#parts.sender.isFull ? undefined : this.#plan.dueMs();
    if (dueMs === undefined) return;
    this.#timer = setTimeout(() => this.wake(), Math.min(Math.max(dueMs - Date.now(), 1), 3_600_000)).unref();
  }

  /** Reads on in the journal, as long as there is room and time. */
  #scan(): void {
    const { journal, collections, log } = this.#parts.store;
    if (this.#journalCut) {
      this.#journalCut = false;
      const { first } = journal.bounds();
      if (first > 0) this.#plan.cut(first);
    }
    const collection = collections.get(this.hook.definition.collection)?.number;
    const sliceEnd = performance.now() + SLICE_MS;
    while (this.#plan.takesMore && this.#plan.seq < log.seq) {
      if (performance.now() > sliceEnd) return this.wake();
      if (collection === undefined) return this.#plan.take([], log.seq);
      const most = Math.min(CHANGES_AT_ONCE, MAX_OPEN - this.#plan.open.size);
      const { changes, seq } = journal.commitChanges({ collection }, this.#plan.seq, log.seq, most, BYTES_AT_ONCE);
      this.#plan.take(changes, seq);
    }
  }

  /** Sends the next change of a document that the hook delivers. */
  async #deliver(document: OpenDocument): Promise<void> {
    let found: NextChange;
    try {
      found = this.#nextEvent(document);
    } catch (error) {
      this.#plan.aborted(document);
      return this.#fail(error);
    }
    const { change, event } = found;
    if (!event) {
      if (change) this.#plan.done(document, change.seq, Date.now());
      else this.#plan.finished(document);
      return this.wake();
    }
    const answer = await this.#post(event, document.failures + 1, change.timeMs);
    if (this.#stopped) return;
    const nowMs = Date.now();
    if (isTaken(answer)) {
      this.#deliveredSince = true;
      this.#plan.done(document, change.seq, nowMs);
      this.#plan.succeeded(nowMs);
      return this.wake();
    }
    const since = document.failingSinceMs || nowMs;
    this.#plan.failed(document, nowMs, retryAfterOf(answer));
    this.#deliveredSince ||= document.failures === 1;
    if (answer.status === GONE) this.#parts.pause('The receiver answered 410 Gone.');
    else if (nowMs - since > this.#parts.giveUpMs) {
      this.#parts.pause(`Deliveries of ${event.attributes.subject} have failed since ${formatTime(since)}.`);
    }
    this.wake();
  }

  /**
   * Finds the next change of a document that the hook delivers. It skips others, up to {@link SKIPPED_AT_ONCE}: then it returns
   * a change without an event. It returns nothing when the document has no change left.
   */
  #nextEvent(document: OpenDocument): NextChange {
    const { store, policy } = this.#parts;
    const access = accessFor(policy(), this.#rights, this.hook.definition.collection);
    let change = document.change ?? this.#readNext(document, document.seq);
    for (let skipped = 0; change; skipped++) {
      const event = eventOf(store.id, change, access, this.#selection);
      if (event) return { change, event };
      if (!document.more) return {};
      if (skipped >= SKIPPED_AT_ONCE) return { change };
      change = this.#readNext(document, change.seq + 1);
    }
    return {};
  }

  /** The first change of a document from a seq on. */
  #readNext(document: OpenDocument, from: number): CommitChange | undefined {
    const { journal, collections } = this.#parts.store;
    const collection = collections.get(this.hook.definition.collection)!.number;
    const { changes } = journal.commitChanges({ collection, id: document.id }, from - 1, this.#plan.seq, 2);
    document.more = changes.length > 1;
    return changes[0];
  }

  /** A condition that costs too much fails for every change. A failing disk may work again. */
  #fail(error: unknown): void {
    if (error instanceof ProblemError || error instanceof WorkLimitError) {
      this.#parts.pause(error.message);
      return this.stop();
    }
    this.#parts.onFault(error);
    this.#timer = setTimeout(() => this.wake(), AFTER_FAULT_MS).unref();
  }

  async #post(event: HookEvent, attempt: number, changeMs: number): Promise<Answer> {
    const timeMs = Date.now();
    const { url, format, timeoutSeconds } = this.hook.definition;
    const post = sign(encodeEvent(event, format), event.attributes.id, this.hook.secretsAt(timeMs), timeMs);
    const answer = await this.#parts.sender.post(url, post, timeoutSeconds * 1000, this.#underWay);
    if (!this.#stopped) {
      const delivered = isTaken(answer);
      const sentBytes = Buffer.byteLength(post.body);
      const { attributes } = event;
      this.#parts.onAttempt(
        { hook: this.hook.id, event: attributes, attempt, timeMs, answer, delivered, sentBytes },
        changeMs,
      );
    }
    return answer;
  }

  /** Sends the receiver the range of changes that the journal lost. */
  #tellMissed(nowMs: number): void {
    const { missed } = this.#plan;
    if (!missed || this.#tellingMissed || nowMs < this.#missedDueMs) return;
    this.#tellingMissed = true;
    const event = missedEvent(this.#parts.store.id, missed, nowMs);
    void this.#post(event, 1, nowMs).then((answer) => {
      this.#tellingMissed = false;
      if (isTaken(answer)) this.#plan.reportedMissed(missed);
      else this.#missedDueMs = Date.now() + RETRY_MISSED_MS;
      this.#deliveredSince = true;
      const timer = setTimeout(() => this.wake(), isTaken(answer) ? 0 : RETRY_MISSED_MS);
      timer.unref();
    });
  }
}

/** Whether a receiver has taken a delivery. */
export function isTaken({ status }: Answer): boolean {
  return status !== undefined && status >= 200 && status < 300;
}

/** How long a receiver that refuses for now wants to be left alone. */
function retryAfterOf({ status, retryAfterMs }: Answer): number | undefined {
  return status === 429 || status === 503 ? retryAfterMs : undefined;
}
