import type { Commit, DocumentChange, Refusal } from '@uproar/core';
import type { ProblemError } from '@uproar/protocol';
import type { LogRecord } from './records.js';

/** A commit that was applied. */
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

/** A record other than a commit that was not applied, and the reason. */
export interface Refused {
  problem: ProblemError;
}

/** What the refresh of a session led to. `reused`: the token had been replaced before, so the session was ended. */
export type RefreshOutcome =
  { renewed: { session: string; account: string } } | { reused: { account: string } } | { unknown: true };

/** The outcome of applying each kind of record. */
export interface Outcomes {
  commit: CommitOutcome;
  store: { id: string };
  limits: Record<never, never>;
  policy: { version: number } | Refused;
  schema: { version: number } | Refused;
  'schema-removed': { removed: boolean };
  'key-created': { created: boolean } | Refused;
  'key-rotated': { found: boolean };
  'key-revoked': { found: boolean };
  'account-created': Record<never, never> | Refused;
  'account-changed': { found: boolean } | Refused;
  'account-removed': { found: boolean };
  'guests-removed': { removed: number };
  'session-started': Record<never, never> | Refused;
  'session-used': Record<never, never>;
  'session-refreshed': RefreshOutcome;
  'session-ended': Record<never, never>;
  'hook-created': { seq: number } | Refused;
  'hook-changed': { found: boolean };
  'hook-rotated': { found: boolean };
  'hook-removed': { found: boolean };
  'hook-progress': Record<never, never>;
  setup: Record<never, never> | Refused;
  'index-created': { number: number; created: boolean };
  'index-removed': { found: boolean };
  usage: Record<never, never>;
  'erasure-begun': Record<never, never>;
  /** How many of its documents are erased, the contents that were removed, and the commit that says so. */
  'documents-erased': { done: number; removed: string[]; applied?: AppliedCommit };
  'idempotency-erased': { more: boolean };
  'backup-made': Record<never, never>;
  'blob-received': Record<never, never>;
  'blobs-removed': { removed: string[] };
  'journal-truncated': Record<never, never>;
  'journal-swept': { more: boolean };
  'idempotency-expired': { more: boolean };
}

/** The outcome of a record, by its kind. */
export type OutcomeOf<Record extends LogRecord> = Outcomes[Record['kind']];
