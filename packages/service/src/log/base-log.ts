import type Database from 'better-sqlite3';
import type { Commit } from '@uproar/core';
import type { AppliedCommit, CommitOutcome, OutcomeOf, Refused } from '../state/outcomes.js';
import type { AppliedBatch } from '../state/state-machine.js';
import { BatchWriter, type LogParts } from './batch-writer.js';
import { Intake } from './intake.js';
import type { CommitOrigin, Log, OtherRecord } from './log.js';

/** What every log does in the same way: it queues records, and writes batches to the store. */
export abstract class BaseLog implements Log {
  protected readonly writer: BatchWriter;
  protected readonly intake: Intake;

  constructor(parts: LogParts) {
    this.writer = new BatchWriter(parts);
    this.writer.onIdle = () => this.schedule();
    this.intake = new Intake(
      parts.maxWaiting,
      () => this.whyClosed(),
      () => this.recordArrived(),
    );
  }

  get seq(): number {
    return this.writer.seq;
  }

  get waiting(): number {
    return this.intake.commits;
  }

  get crowded(): boolean {
    return this.intake.crowded;
  }

  set onGroup(call: (records: number, durationMs: number) => void) {
    this.writer.onGroup = call;
  }

  set onFailure(call: (error: Error) => void) {
    this.writer.onFailure = call;
  }

  set onListenerFault(call: (error: unknown) => void) {
    this.writer.onListenerFault = call;
  }

  append(commit: Commit, origin?: CommitOrigin): Promise<CommitOutcome> {
    return this.intake.append(commit, origin);
  }

  propose<Proposed extends OtherRecord>(record: Proposed): Promise<Exclude<OutcomeOf<Proposed>, Refused>> {
    return this.intake.propose(record);
  }

  writeLocally(write: (database: Database.Database) => void): Promise<void> {
    const refused = this.whyNotLocally();
    if (refused) return Promise.reject(refused);
    const written = this.writer.addLocally(write);
    this.schedule();
    return written;
  }

  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void {
    return this.writer.onApplied(listener);
  }

  onBatch(listener: (batch: AppliedBatch) => void): () => void {
    return this.writer.onBatch(listener);
  }

  whenDurable<Result>(work: () => Result): Promise<Result> {
    return this.writer.whenDurable(work);
  }

  pause(work: () => Promise<void>): Promise<void> {
    return this.writer.pause(work);
  }

  abstract close(): void;

  /** The reason to refuse records; undefined while they are accepted. */
  protected abstract whyClosed(): Error | undefined;

  /** The reason to refuse local writes; undefined while they are accepted. */
  protected abstract whyNotLocally(): Error | undefined;

  /** Called when a record has been queued. */
  protected abstract recordArrived(): void;

  /** Writes the next transaction soon, if there is one. */
  protected abstract schedule(): void;
}
