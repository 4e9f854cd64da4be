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
  /** What of the writes does not fit a schema that only warns. */
  warnings: Warning[];
}

/** What of a write does not fit, although it was done. */
export interface Warning {
  /** The index of the write. */
  write: number;
  /** The address of the document. */
  document: string;
  violations: SchemaViolation[];
}

/** A place in the data of a document that does not fit. */
export type SchemaViolation = NonNullable<Refusal['violations']>[number];

/** What whoever sent a commit gets to know of it. */
export interface Receipt {
  seq: number;
  documents: AppliedCommit['documents'];
  warnings: Warning[];
}

/** Judges data that is about to be written; undefined where it fits, or nobody minds. */
export type DataValidator = (
  collection: string,
  data: JsonObject,
  sizeBytes: number,
) => { violations: SchemaViolation[]; enforced: boolean } | undefined;

/**
 * How a commit came out. Of a refused one nothing was applied; `write` or `read` is the index of what it was refused
 * for. `repeated`: it had been applied before, under the same id. `unchanged`: it altered nothing, so it got no seq; `seq` is
 * that of the store, and `changes` are the documents as they are. `idReused`: the id belongs to another content.
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
  /** Hears the seq of the commit when it is on disk, before anybody who watches hears of its changes. */
  onSeq?: (seq: number) => void;
}

/**
 * The one narrow interface every commit passes: it gives the commits their one order. The store's own journal
 * implements it; a replicated stream could, each node applying the stream in order to its own store. Commits
 * carry their ids and times, and their conditions are judged when they are applied.
 */
export interface CommitLog {
  /** The seq of the newest commit; 0 in an empty store. */
  readonly seq: number;

  /**
   * Appends a commit. Those of one lane are applied in the order in which they were appended.
   *
   * @returns how it came out, once it is on disk and the listeners have heard of it
   * @throws {ProblemError} `overloaded`, `storage-failed` or `stopping`; then nothing was applied
   */
  append(commit: Commit, origin?: CommitOrigin): Promise<CommitOutcome>;

  /** Up to `limit` commits after `seq`, oldest first. */
  after(seq: number, limit: number): JournalEntry[];

  /** Calls `listener` with every group of commits, in order, once they are on disk. Returns a stop function. */
  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void;
}
