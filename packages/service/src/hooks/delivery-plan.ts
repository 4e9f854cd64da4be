import type { CommitChange } from '../store/index.js';
import type { HookProgress } from '../state/records.js';

/** The pause after the first failure, and the longest, in milliseconds. Each is twice the one before. */
const FIRST_PAUSE_MS = 1000;
const LONGEST_PAUSE_MS = 3_600_000;

/** Pauses are up to this part shorter or longer, so that receivers are not tried by all at once. */
const JITTER = 0.2;

/** If deliveries of so many documents fail in a row, the receiver itself is taken to be down. */
const DOWN_AFTER = 3;

/** A receiver that is down is tried at least so often, in milliseconds. */
const LONGEST_PROBE_MS = 60_000;

/** Changes that are kept in memory until they are sent, in bytes of their documents; others are read again. */
const KEPT_BYTES = 1024 * 1024;

/** A document with changes that are not delivered yet. */
export interface OpenDocument {
  id: string;
  /** The seq of its first change that is not delivered. */
  seq: number;
  /** That change, if it is in memory. */
  change?: CommitChange | undefined;
  /** Whether later changes may wait behind it. */
  more: boolean;
  /** Failures of that change so far. */
  failures: number;
  /** Since when it fails, in milliseconds since 1970; 0 if it does not. */
  failingSinceMs: number;
  /** When it may be sent, in milliseconds since 1970. */
  dueMs: number;
  sending: boolean;
}

/**
 * Decides what a hook delivers next: the changes of a document in order, those of different documents beside each other. A
 * document that fails holds back only itself. It knows no clock and sends nothing.
 */
export class DeliveryPlan {
  /** In the order in which they were met. */
  readonly #open = new Map<string, OpenDocument>();
  readonly #parallel: number;
  readonly #maxOpen: number;
  readonly #random: () => number;
  /** Documents that failed since the last success. */
  readonly #failed = new Set<string>();
  #seq: number;
  #missed: HookProgress['missed'];
  #sending = 0;
  #keptBytes = 0;
  /** While the receiver is down or wants to be left alone: until when nothing is sent, and how often that was so. */
  #restsUntilMs = 0;
  #probes = 0;

  constructor(
    { seq, open, missed }: HookProgress,
    { parallel, maxOpen, random }: { parallel: number; maxOpen: number; random: () => number },
  ) {
    this.#seq = seq;
    this.#missed = missed;
    this.#parallel = parallel;
    this.#maxOpen = maxOpen;
    this.#random = random;
    for (const [id, first, failingSinceMs] of open) this.#add({ id, seq: first, more: true, failingSinceMs });
  }

  /** Every change up to it is delivered or belongs to an open document. */
  get seq(): number {
    return this.#seq;
  }

  get open(): ReadonlyMap<string, Readonly<OpenDocument>> {
    return this.#open;
  }

  get sending(): number {
    return this.#sending;
  }

  /** Changes that the journal lost and that no delivery has reported to the receiver yet. */
  get missed(): HookProgress['missed'] {
    return this.#missed;
  }

  /** Whether it takes more changes. The number of open documents is bounded. */
  get takesMore(): boolean {
    return this.#open.size < this.#maxOpen;
  }

  get progress(): HookProgress {
    const open = [...this.#open.values()].map(({ id, seq, failingSinceMs }): [string, number, number] => [
      id,
      seq,
      failingSinceMs,
    ]);
    return { seq: this.#seq, open, ...(this.#missed ? { missed: this.#missed } : {}) };
  }

  /** Takes the changes after {@link seq} and up to another. */
  take(changes: readonly CommitChange[], upTo: number): void {
    for (const change of changes) {
      const known = this.#open.get(change.id);
      if (known) known.more = true;
      else this.#add({ id: change.id, seq: change.seq, more: false, failingSinceMs: 0 }, change);
    }
    this.#seq = Math.max(this.#seq, upTo);
  }

  /** Notes that the journal begins at a seq. Earlier changes that were not delivered are missed. */
  cut(first: number): void {
    let after = this.#seq < first - 1 ? this.#seq : Infinity;
    for (const document of this.#open.values()) {
      if (document.seq >= first || document.change || document.sending) continue;
      after = Math.min(after, document.seq - 1);
      document.seq = first;
      document.more = true;
      document.failures = 0;
      document.failingSinceMs = 0;
    }
    if (after === Infinity) return;
    this.#seq = Math.max(this.#seq, first - 1);
    this.#missed = { after: Math.min(after, this.#missed?.after ?? after), upTo: first - 1 };
  }

  /** Notes that a delivery has reported the missed changes to the receiver. */
  reportedMissed(missed: HookProgress['missed']): void {
    if (this.#missed === missed) this.#missed = undefined;
  }

  /** The next document to send a change of, which then counts as being sent. Undefined when there is none now. */
  next(nowMs: number): OpenDocument | undefined {
    if (this.#sending >= (this.#restsUntilMs > 0 ? 1 : this.#parallel) || nowMs < this.#restsUntilMs) return undefined;
    for (const document of this.#open.values()) {
      if (document.sending || (document.dueMs > nowMs && this.#restsUntilMs === 0)) continue;
      document.sending = true;
      this.#sending++;
      // The next time, others come first.
      if (document.failures > 0) this.#moveToEnd(document);
      return document;
    }
    return undefined;
  }

  /** When something may be due next, in milliseconds since 1970; undefined when only a new change can bring something. */
  dueMs(): number | undefined {
    // The end of a delivery wakes the worker.
    if (this.#sending >= (this.#restsUntilMs > 0 ? 1 : this.#parallel)) return undefined;
    if (this.#restsUntilMs > 0) return this.#open.size > 0 ? this.#restsUntilMs : undefined;
    let dueMs = Infinity;
    for (const document of this.#open.values()) if (!document.sending) dueMs = Math.min(dueMs, document.dueMs);
    return dueMs === Infinity ? undefined : dueMs;
  }

  /** The change at this seq is done. The document stays open if later changes may wait. */
  done(document: OpenDocument, seq: number, nowMs: number): void {
    this.#release(document);
    if (document.failures > 0) document.failures = document.failingSinceMs = 0;
    document.seq = seq + 1;
    document.dueMs = nowMs;
    if (!document.more) this.#open.delete(document.id);
  }

  /** No change of the document is left. */
  finished(document: OpenDocument): void {
    this.#release(document);
    this.#open.delete(document.id);
  }

  /** The receiver took a delivery. */
  succeeded(nowMs: number): void {
    this.#failed.clear();
    if (this.#restsUntilMs === 0) return;
    this.#restsUntilMs = this.#probes = 0;
    for (const document of this.#open.values()) document.dueMs = Math.min(document.dueMs, nowMs);
  }

  /** A delivery failed; it is tried again after a pause. */
  failed(document: OpenDocument, nowMs: number, retryAfterMs?: number): void {
    this.#release(document);
    document.failures++;
    document.failingSinceMs ||= nowMs;
    document.dueMs = nowMs + (retryAfterMs ?? this.#pauseMs(document.failures, LONGEST_PAUSE_MS));
    this.#failed.add(document.id);
    if (retryAfterMs !== undefined) this.#restsUntilMs = Math.max(this.#restsUntilMs, nowMs + retryAfterMs);
    else if (this.#restsUntilMs > 0 || this.#failed.size >= DOWN_AFTER) {
      this.#restsUntilMs = nowMs + this.#pauseMs(++this.#probes, LONGEST_PROBE_MS);
    }
  }

  /** A delivery was given up on this side, and is due again. */
  aborted(document: OpenDocument): void {
    this.#release(document);
  }

  #add(document: Pick<OpenDocument, 'id' | 'seq' | 'more' | 'failingSinceMs'>, change?: CommitChange): void {
    const keeps = change && this.#keptBytes + change.sizeBytes <= KEPT_BYTES;
    if (keeps) this.#keptBytes += change.sizeBytes;
    this.#open.set(document.id, {
      ...document,
      change: keeps ? change : undefined,
      failures: 0,
      dueMs: 0,
      sending: false,
    });
  }

  #release(document: OpenDocument): void {
    document.sending = false;
    this.#sending--;
    // A change that has to be tried again is read again.
    if (document.change) this.#keptBytes -= document.change.sizeBytes;
    document.change = undefined;
  }

  #moveToEnd(document: OpenDocument): void {
    this.#open.delete(document.id);
    this.#open.set(document.id, document);
  }

  #pauseMs(times: number, longestMs: number): number {
    const pauseMs = Math.min(FIRST_PAUSE_MS * 2 ** Math.min(times - 1, 30), longestMs);
    return Math.round(pauseMs * (1 - JITTER + 2 * JITTER * this.#random()));
  }
}
