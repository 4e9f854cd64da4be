import type Database from 'better-sqlite3';
import type { Commit } from '@uproar/core';
import type { AppliedBatch } from '../state/state-machine.js';
import type { AppliedCommit, CommitOutcome, OutcomeOf, Refused } from '../state/outcomes.js';
import type { LogRecord } from '../state/records.js';

/** A record other than a commit. */
export type OtherRecord = Exclude<LogRecord, { kind: 'commit' }>;

/** Where a commit comes from: who sends commits one after the other, and how many bytes it came in. */
export interface CommitOrigin {
  lane: object;
  sizeBytes: number;
  /** Called with the seq of the commit when it is on disk, before watchers get its changes. */
  onSeq?: (seq: number) => void;
}

/** The one log that everything passes that changes durable state. It gives the records their order. */
export interface Log {
  /** The seq of the newest commit that is on disk; 0 in an empty store. */
  readonly seq: number;
  /** How many commits wait for their turn. */
  readonly waiting: number;
  /** Whether so much waits that more is turned away soon. */
  readonly crowded: boolean;
  /** Called after each batch, with the number of records and the duration in milliseconds. */
  onGroup: (records: number, durationMs: number) => void;
  /** Called when a batch could not be written. */
  onFailure: (error: Error) => void;
  /** Called with errors of listeners. The records are on disk and acknowledged all the same. */
  onListenerFault: (error: unknown) => void;

  /**
   * Appends a commit. Commits of one lane are applied in the order in which they were appended.
   *
   * @returns the outcome, once it is on disk and the listeners have been called
   * @throws {ProblemError} `overloaded`, `storage-failed` or `stopping`; then nothing was applied
   */
  append(commit: Commit, origin?: CommitOrigin): Promise<CommitOutcome>;

  /**
   * Appends a record of another kind.
   *
   * @returns the outcome, once it is on disk and the listeners have been called
   * @throws {ProblemError} the reason why it was not applied; or as {@link append}
   */
  propose<Proposed extends OtherRecord>(record: Proposed): Promise<Exclude<OutcomeOf<Proposed>, Refused>>;

  /**
   * Writes to local tables, which each node keeps for itself, in a transaction.
   *
   * @returns once they are on disk
   */
  writeLocally(write: (database: Database.Database) => void): Promise<void>;

  /** Calls `listener` with every group of commits, in order, once they are on disk. Returns a stop function. */
  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void;

  /**
   * Calls `listener` with every batch, in order, once it is on disk, before the listeners of {@link onApplied}. It updates
   * caches.
   */
  onBatch(listener: (batch: AppliedBatch) => void): () => void;

  /**
   * Runs `work` when all written transactions are on disk, so that it cannot read data that may be lost. The next
   * transaction is written after it.
   *
   * @throws {ProblemError} `storage-failed` after a failed sync
   */
  whenDurable<Result>(work: () => Result): Promise<Result>;

  /** Runs `work` when all transactions are on disk. Until it ends, writers wait, and readers hold no snapshot. */
  pause(work: () => Promise<void>): Promise<void>;

  /** Writes what waits, and accepts no more. */
  close(): void;
}
