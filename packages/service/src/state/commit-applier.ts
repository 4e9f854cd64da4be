import type { Commit, Refusal, Write } from '@uproar/core';
import { FILES, type BlobTable } from './blob-table.js';
import type { CollectionTable } from './collection-table.js';
import type { DocumentTable } from './document-table.js';
import { evaluateCommit, type Row } from './evaluate-commit.js';
import { HeldDocuments } from './held-documents.js';
import type { HoldTable } from './hold-table.js';
import { ERASED_DIGEST, type IdempotencyTable, type StoredOutcome } from './idempotency-table.js';
import type { IndexTable } from './index-table.js';
import type { JournalTable } from './journal-table.js';
import type { CommitOutcome, Receipt } from './outcomes.js';
import type { PolicyTable } from './policy-table.js';
import type { SchemaTable } from './schema-table.js';
import type { StoreTable } from './store-table.js';

/** The tables that commits are evaluated with and written to. */
export interface CommitTables {
  collections: CollectionTable;
  documents: DocumentTable;
  journal: JournalTable;
  indexes: IndexTable;
  idempotency: IdempotencyTable;
  blobs: BlobTable;
  holds: HoldTable;
  policies: PolicyTable;
  schemas: SchemaTable;
  store: StoreTable;
}

/** The documents of commits with more writes, such as those of an import, are not cached. */
const MAX_HELD_WRITES = 32;

/** Refusals for reasons that lie outside the documents. */
const CAN_CHANGE: ReadonlySet<Refusal['kind']> = new Set(['not-allowed', 'schema-violation']);

/**
 * Applies commits. A commit is evaluated completely before its first row is written, so a refused one leaves nothing
 * behind.
 */
export class CommitApplier {
  readonly #tables: CommitTables;
  readonly #held: HeldDocuments;

  constructor(tables: CommitTables) {
    this.#tables = tables;
    this.#held = new HeldDocuments(tables.collections, tables.documents);
  }

  /** Applies a commit, unless its sender used its id before; then the earlier outcome is the answer. */
  apply(commit: Commit): CommitOutcome {
    const { id, author, digest = '' } = commit;
    if (id === undefined) return this.#evaluate(commit);
    const space = commit.idSpace ?? `${author.kind}:${author.name}`;
    const earlier = this.#tables.idempotency.get(space, id);
    if (earlier && earlier.digest !== digest && earlier.digest !== ERASED_DIGEST) return { idReused: id };
    if (earlier)
      return 'seq' in earlier.outcome ? { repeated: describeRepeated(commit, earlier.outcome) } : earlier.outcome;
    const outcome = this.#evaluate(commit);
    const stored = outcomeToStore(commit, outcome);
    if (stored) this.#tables.idempotency.add(space, id, commit.timeMs, digest, stored);
    return outcome;
  }

  /** Drops the cached documents. Needed when something other than a commit has changed them, and after a rollback. */
  forget(): void {
    this.#held.clear();
  }

  /** Evaluates a commit and, if it is applied, writes its rows. */
  #evaluate(commit: Commit): CommitOutcome {
    const { blobs, holds, journal, policies, schemas, store } = this.#tables;
    const evaluation = evaluateCommit(commit, journal.seq + 1, {
      held: this.#held,
      blobs,
      schemas,
      holds,
      limits: store.current,
      policy: policies.current,
    });
    this.#noteHolds(commit, evaluation.outcome);
    if (!('rows' in evaluation)) return evaluation.outcome;
    const seq = journal.seq + 1;
    journal.addCommit(seq, commit.id, commit.timeMs, commit.author);
    for (const row of evaluation.rows) this.#writeRow(row, seq, commit.timeMs);
    const few = evaluation.rows.length <= MAX_HELD_WRITES;
    for (const [address, document] of evaluation.altered) {
      if (document && few) this.#held.set(address, document);
      else this.#held.drop(address);
    }
    return evaluation.outcome;
  }

  /** Notes who holds the documents of a commit that was not refused. */
  #noteHolds({ writes }: Commit, outcome: CommitOutcome): void {
    const done = 'applied' in outcome ? outcome.applied : 'unchanged' in outcome ? outcome.unchanged : undefined;
    if (!done) return;
    for (const [index, write] of writes.entries()) {
      this.#tables.holds.note(write, done.documents[index]!.version === 0);
    }
  }

  #writeRow({ write, before, after }: Row, seq: number, timeMs: number): void {
    const { blobs, collections, documents, journal, indexes } = this.#tables;
    const [bytesBefore, bytesAfter] = [before?.sizeBytes ?? 0, after?.sizeBytes ?? 0];
    const added = (after ? 1 : 0) - (before ? 1 : 0);
    const number = collections.count(write.collection, seq, timeMs, added, bytesAfter - bytesBefore);
    if (!after) documents.delete(number, write.id);
    else if (before) {
      // The document may have been made by an earlier write of this commit, and got its number only now.
      after.stored.number = before.stored.number;
      documents.update(number, after.stored);
    } else after.stored.number = documents.insert(number, after.stored);
    if (write.collection === FILES) blobs.count(before?.document, after?.document, timeMs);
    journal.addChange(seq, number, before?.stored, after?.stored, bytesBefore + bytesAfter);
    indexes.update(number, before?.document, after?.document, (after ?? before)!.stored.number);
  }
}

/** What is kept of an outcome. Nothing if the policy or the schema refused: they may change, so it is evaluated again. */
function outcomeToStore(commit: Commit, outcome: CommitOutcome): StoredOutcome | undefined {
  if ('refused' in outcome) return CAN_CHANGE.has(outcome.refused.kind) ? undefined : outcome;
  if (!('applied' in outcome) && !('unchanged' in outcome)) return undefined;
  const { seq, documents, warnings } = 'applied' in outcome ? outcome.applied : outcome.unchanged;
  const follow =
    'applied' in outcome && documents.every(({ version }, at) => version === versionOf(commit.writes[at]!, seq));
  return { seq, ...(follow ? {} : { documents }), ...(warnings.length > 0 ? { warnings } : {}) };
}

/** The documents of a commit that was applied before, from the idempotency record or from its writes. */
function describeRepeated(
  { writes }: Commit,
  { seq, documents, warnings = [] }: Extract<StoredOutcome, { seq: number }>,
): Receipt {
  const follow = () =>
    writes.map((write) => ({ collection: write.collection, id: write.id, version: versionOf(write, seq) ?? seq }));
  return { seq, documents: documents ?? follow(), warnings };
}

/** The version that a write leaves, where it follows from the write. */
function versionOf({ kind }: Write, seq: number): number | undefined {
  return kind === 'delete' ? 0 : kind === 'create' ? undefined : seq;
}
