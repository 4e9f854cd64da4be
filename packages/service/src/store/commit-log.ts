import type { Commit, DocumentChange, JsonObject, Refusal } from '@uproar/core';
import type { JournalEntry } from './journal.js';

/** A commit that was applied and is on disk. */
export interface AppliedCommit {
  seq: number;
  commit: Commit;
  /** One for each write, in order, but none for documents that were kept as they were. */
  changes: DocumentChange[];
  /** The documents of the writes, in order, and their versions now; 0 for a deleted one. */
  documents: { collection: string; id: string; version: number }[];
  /** The violations of a schema in mode `warn`. */
  warnings: Warning[];
}

/** The violations of a write that was applied anyway. */
export interface Warning {
  /** The index of the write. */
  write: number;
  /** The address of the document. */
  document: string;
  violations: SchemaViolation[];
}

/** A place in the data of a document that does not fit. */
export type SchemaViolation = NonNullable<Refusal['violations']>[number];

/** What the sender of a commit gets. */
export interface Receipt {
  seq: number;
  documents: AppliedCommit['documents'];
  warnings: Warning[];
}

/** Validates data that is about to be written; undefined if it is valid or no schema applies. */
export type DataValidator = (
  collection: string,
  data: JsonObject,
  sizeBytes: number,
) => { violations: SchemaViolation[]; enforced: boolean } | undefined;

/**
 * The outcome of a commit. Of a refused one nothing was applied; `write` or `read` is the index of the reason.
 * `repeated`: it was applied before, under the same id. `unchanged`: it changed nothing and got no seq; `seq` is that
 * of the store, and `changes` are the present documents. `idReused`: the id belongs to other content.
 */
export type CommitOutcome =
  | { applied: AppliedCommit }
  | { refused: Refusal; write?: number; read?: number }
  | { repeated: Receipt }
  | { unchanged: Receipt & { changes: DocumentChange[] } }
  | { idReused: string };

/** Where a commit comes from: who sends commits one after the other, and how many bytes it came in. */
export interface CommitOrigin {
  lane: object;
  sizeBytes: number;
  /** Called with the seq of the commit when it is on disk, before watchers get its changes. */
  onSeq?: (seq: number) => void;
}

/** The interface that every commit passes: it gives the commits their order. */
export interface CommitLog {
  /** The seq of the newest commit; 0 in an empty store. */
  readonly seq: number;

  /**
   * Appends a commit. Commits of one lane are applied in the order in which they were appended.
   *
   * @returns the outcome, once it is on disk and the listeners have been called
   * @throws {ProblemError} `overloaded`, `storage-failed` or `stopping`; then nothing was applied
   */
  append(commit: Commit, origin?: CommitOrigin): Promise<CommitOutcome>;

  /** Up to `limit` commits after `seq`, oldest first. */
  after(seq: number, limit: number): JournalEntry[];

  /** Calls `listener` with every group of commits, in order, once they are on disk. Returns a stop function. */
  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void;
}
