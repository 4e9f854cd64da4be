import { problemError } from '@uproar/protocol';
import type { StateMachine } from '../state/state-machine.js';
import { BaseLog } from './base-log.js';
import type { LogParts } from './batch-writer.js';
import type { LogHealth } from './durable-writer.js';
import type { WaitingCommit } from './intake.js';
import type { OtherRecord } from './log.js';

/** A batch is closed when applying it has taken so long, so that others are served in between. */
const MAX_BATCH_MS = 30;

/**
 * The log of a store on one node. The order is that of arrival. The SQLite transaction is the log: records that arrive
 * together are applied one after another in one transaction. A batch holds either commits, or records of other kinds. So
 * a change is never distributed under an earlier policy than the one that allowed it.
 *
 * Records that arrive during the sync of a batch form the next one.
 */
export class LocalLog extends BaseLog {
  readonly #state: StateMachine;
  readonly #health: LogHealth;
  #scheduled = false;
  #closed = false;

  constructor(parts: LogParts) {
    super(parts);
    this.#state = parts.state;
    this.#health = parts.health;
    this.writer.onFailedSync = () => this.intake.refuseAll(this.#health.damage!);
  }

  /** Applies records at once, while the store is being opened. */
  applyAtStart(records: readonly OtherRecord[]): void {
    let failure: Error | undefined;
    this.writer.write({
      apply: () => {
        for (const record of records) this.#state.apply(record);
        return [{ batch: this.#state.finish(), waiting: [] }];
      },
      failed: (error) => (failure = error),
      sizeBytes: () => 0,
    });
    this.writer.settleNow();
    if (failure) throw failure;
  }

  /** Writes all waiting records and accepts no more. */
  close(): void {
    this.#closed = true;
    this.writer.close();
    while (this.#isWaiting) {
      this.#writeNext();
      this.writer.settleNow();
    }
  }

  get #isWaiting(): boolean {
    return !this.intake.isEmpty || this.writer.hasLocalWrites;
  }

  protected whyClosed(): Error | undefined {
    if (this.#closed) {
      return problemError('stopping', 'The service is stopping. Send the commit again after the restart.');
    }
    return this.#health.damage;
  }

  protected whyNotLocally(): Error | undefined {
    return this.whyClosed();
  }

  protected recordArrived(): void {
    this.schedule();
  }

  protected schedule(): void {
    if (this.#scheduled || this.writer.isBusy || !this.#isWaiting) return;
    this.#scheduled = true;
    setImmediate(() => {
      this.#scheduled = false;
      if (this.writer.isBusy || this.#closed || !this.#isWaiting) return;
      this.#writeNext();
      if (this.writer.isBusy) this.writer.settleInBackground();
      else this.schedule();
    });
  }

  /** Writes the next batch, with the local writes that wait. */
  #writeNext(): void {
    const kind = this.intake.nextKind();
    if (kind === 'records') this.#writeRecords();
    else if (kind === 'commits') this.#writeCommits();
    else this.writer.write();
  }

  #writeRecords(): void {
    const waiting = this.intake.takeRecords();
    this.writer.write({
      apply: () => {
        for (const { record } of waiting) this.#state.apply(record);
        return [{ batch: this.#state.finish(), waiting }];
      },
      failed: (problem) => waiting.forEach(({ reject }) => reject(problem)),
      sizeBytes: () => waiting.reduce((sum, { record }) => sum + JSON.stringify(record).length, 0),
    });
  }

  #writeCommits(): void {
    const waiting: WaitingCommit[] = [];
    this.writer.write({
      apply: () => {
        const endsMs = performance.now() + MAX_BATCH_MS;
        for (const next of this.intake.takeCommits()) {
          waiting.push(next);
          this.#state.apply({ kind: 'commit', commit: next.commit });
          if (performance.now() > endsMs) break;
        }
        return [{ batch: this.#state.finish(), waiting }];
      },
      failed: (problem) => waiting.forEach(({ reject }) => reject(problem)),
      sizeBytes: () => {
        // Where not even the transaction could begin, none was taken yet.
        if (waiting.length === 0) waiting.push(...this.intake.takeCommits());
        return waiting.reduce((sum, { sizeBytes }) => sum + sizeBytes, 0);
      },
    });
  }
}
