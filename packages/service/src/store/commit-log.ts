import type { Commit, DataFault, DocumentChange, Refusal } from '@uproar/core';
import type { JournalEntry } from './journal.js';

/** A commit that was applied and is on disk. */
export interface AppliedCommit {
  seq: number;
  commit: Commit;
  /** One for each write, in order. */
  changes: DocumentChange[];
}

/** A fault of the data that a write would leave behind. */
export interface DataRefusal {
  kind: 'bad-document';
  fault: DataFault;
  collection: string;
  id: string;
}

/** How a commit came out. `write` is the index of the write that was refused; then nothing was applied. */
export type CommitOutcome = { applied: AppliedCommit } | { refused: Refusal | DataRefusal; write: number };

/**
 * The one narrow interface every commit passes: it gives the commits their one order. The store's own journal
 * implements it; a replicated stream could, each node applying the stream in order to its own store. Commits
 * carry their ids and times, and their conditions are judged when they are applied.
 */
export interface CommitLog {
  /** The seq of the newest commit; 0 in an empty store. */
  readonly seq: number;

  /**
   * Appends a commit.
   *
   * @returns how it came out, once it is on disk and the listeners have heard of it
   * @throws {ProblemError} `overloaded`, `storage-failed` or `stopping`; then nothing was applied
   */
  append(commit: Commit): Promise<CommitOutcome>;

  /** Up to `limit` commits after `seq`, oldest first. */
  after(seq: number, limit: number): JournalEntry[];

  /** Calls `listener` with every group of commits, in order, once they are on disk. Returns a stop function. */
  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void;
}
