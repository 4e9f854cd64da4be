import { problemError } from '@uproar/protocol';
import type { EntryHeader } from '../state/log-entry.js';
import type { LogRecord } from '../state/records.js';
import type { Waiting } from './intake.js';

/** The most batches that are sent and not applied yet. */
const MAX_SENT = 4;

interface SentBatch {
  waiting: readonly Waiting[];
  records: readonly LogRecord[];
  sentMs: number;
  /** Whether it was applied in a transaction that is not on disk yet. */
  applied: boolean;
}

/** What {@link OwnBatches} needs. */
export interface OwnBatchParts {
  /** The name of this node in the log, from this start to the next. */
  producer: string;
  confirmMs: number;
  retryMs: number;
  append: (bytes: Buffer) => Promise<void>;
  encode: (number: number, records: readonly LogRecord[]) => Buffer[];
  /** The next batch; undefined if nothing waits. */
  take: () => { records: LogRecord[]; waiting: Waiting[] } | undefined;
  /** Refuses everything that was not sent yet. */
  refuseWaiting: (problem: Error) => void;
  /** Called when the log has dropped this node from its table, because very many nodes have started since. */
  onForgotten: () => void;
}

/**
 * The batches of this node on their way through the log service. They are numbered, and appended one after another. An
 * append without an answer is repeated: of all entries with the same number, only the first counts.
 */
export class OwnBatches {
  readonly #parts: OwnBatchParts;
  readonly #sent = new Map<number, SentBatch>();
  readonly #timer: NodeJS.Timeout;
  #number = 0;
  #sending = false;
  #stopped = false;

  constructor(parts: OwnBatchParts) {
    this.#parts = parts;
    this.#timer = setInterval(() => this.#checkTimes(), Math.max(1, parts.confirmMs / 10)).unref();
  }

  /** Sends what waits, if the last append is done. */
  sendNext(): void {
    if (this.#sending || this.#stopped || this.#sent.size >= MAX_SENT) return;
    const next = this.#parts.take();
    if (!next) return;
    const number = ++this.#number;
    this.#sent.set(number, { ...next, sentMs: performance.now(), applied: false });
    void this.#send(number, next.records);
  }

  /** Returns the callers that wait for a batch that is being applied. */
  applying({ producer, number, part, parts }: EntryHeader, counted: boolean): readonly Waiting[] {
    const sent = producer === this.#parts.producer ? this.#sent.get(number) : undefined;
    if (!sent) return [];
    if (counted) {
      sent.applied = true;
      return sent.waiting;
    }
    if (part === parts && !sent.applied) this.#parts.onForgotten();
    return [];
  }

  /** The transaction was rolled back: its entries are applied again later. */
  undo(): void {
    for (const sent of this.#sent.values()) sent.applied = false;
  }

  /** The entry is on disk. */
  settled({ producer, number }: EntryHeader): void {
    if (producer !== this.#parts.producer || !this.#sent.get(number)?.applied) return;
    this.#sent.delete(number);
    this.sendNext();
  }

  /** Stops sending, and rejects the promises of all callers. */
  stop(problem: Error): void {
    this.#stopped = true;
    clearInterval(this.#timer);
    this.#parts.refuseWaiting(problem);
    for (const { waiting } of this.#sent.values()) for (const { reject } of waiting) reject(unconfirmed());
    this.#sent.clear();
  }

  async #send(number: number, records: readonly LogRecord[]): Promise<void> {
    this.#sending = true;
    for (const bytes of this.#parts.encode(number, records)) {
      while (this.#isWanted(number) && !(await this.#tryToAppend(bytes))) await this.#pause();
    }
    this.#sending = false;
    this.sendNext();
  }

  #isWanted(number: number): boolean {
    return !this.#stopped && this.#sent.has(number);
  }

  async #tryToAppend(bytes: Buffer): Promise<boolean> {
    try {
      await this.#parts.append(bytes);
      return true;
    } catch {
      return false;
    }
  }

  #pause(): Promise<void> {
    return new Promise((resolve) => setTimeout(resolve, this.#parts.retryMs * (0.5 + Math.random())).unref());
  }

  /** Rejects the promises of callers that have waited for too long. */
  #checkTimes(): void {
    const before = performance.now() - this.#parts.confirmMs;
    for (const sent of this.#sent.values()) {
      if (sent.sentMs > before) continue;
      for (const { reject } of sent.waiting) reject(unconfirmed());
      sent.waiting = [];
      // What was not sent yet would wait just as long.
      this.#parts.refuseWaiting(
        problemError('no-quorum', 'The log service does not answer, so nothing can be written. Try again later.'),
      );
    }
  }
}

function unconfirmed(): Error {
  return problemError(
    'unconfirmed',
    'It is not known whether this was applied. Send it again with the same id, or read what it would have changed.',
  );
}
