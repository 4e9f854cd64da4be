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

  /** Calls `listener` with every group of commits, in order, once they are on disk. Returns a stop function. */
  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void;

  /**
   * Calls `listener` with every batch, in order, once it is on disk, before the listeners of {@link onApplied}. It updates
   * caches.
   */
  onBatch(listener: (batch: AppliedBatch) => void): () => void;
}
