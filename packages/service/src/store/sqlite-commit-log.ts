import type Database from 'better-sqlite3';
import { CLOSED, type Commit, type DocumentLimits, type Policy, type Refusal, type Write } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { AppliedCommit, CommitLog, CommitOrigin, CommitOutcome, DataValidator, Receipt } from './commit-log.js';
import type { StorageHealth } from './storage-health.js';
import { CommitQueue, type Queued } from './commit-queue.js';
import type { Collections } from './collections.js';
import { FILES, type Contents } from './contents.js';
import { type Documents } from './documents.js';
import type { Indexes } from './indexes.js';
import { evaluateCommit, type Row } from './evaluate-commit.js';
import { HeldDocuments } from './held-documents.js';
import type { Journal, JournalEntry } from './journal.js';
import type { Outcome, IdempotencyRecords } from './idempotency-records.js';

interface Waiting extends Queued {
  commit: Commit;
  onSeq: ((seq: number) => void) | undefined;
  resolve(outcome: CommitOutcome): void;
  reject(error: Error): void;
}

/** The tables a commit is written to. */
export interface CommitTables {
  database: Database.Database;
  collections: Collections;
  documents: Documents;
  journal: Journal;
  indexes: Indexes;
  idempotencyRecords: IdempotencyRecords;
  contents: Contents;
  health: StorageHealth;
}

/** Refusals for reasons that lie outside the documents. */
const CAN_CHANGE: ReadonlySet<Refusal['kind']> = new Set(['not-allowed', 'schema-violation']);

/** A group of commits is closed when it has taken so long, so that others are served in between. */
const MAX_GROUP_MS = 30;

/** How much may wait for its turn before more is turned away. */
export interface WaitingLimits {
  commits: number;
  sizeBytes: number;
}

/**
 * The commit log of a single store. Commits that arrive together are evaluated one after another and written in one
 * transaction with one sync to disk. A commit is evaluated completely before its first row is written, so a refused one
 * leaves nothing behind.
 */
export class SqliteCommitLog implements CommitLog {
  readonly #tables: CommitTables;
  readonly #limits: DocumentLimits;
  readonly #maxWaiting: WaitingLimits;
  readonly #resultBytes: number;
  readonly #listeners = new Set<(group: readonly AppliedCommit[]) => void>();
  readonly #begin: Database.Statement;
  readonly #commit: Database.Statement;
  readonly #rollback: Database.Statement;
  readonly #queue = new CommitQueue<Waiting>();
  /** Called after each group, with the number of commits and the duration in milliseconds. */
  onGroup: (commits: number, durationMs: number) => void = () => undefined;
  /** Called when a group could not be written. */
  onFailure: (error: Error) => void = () => undefined;
  /** Called with errors of listeners. The commits are on disk and acknowledged all the same. */
  onListenerFault: (error: unknown) => void = () => undefined;
  /** Returns the policy that commits are evaluated under. */
  policy: () => Policy = () => CLOSED;
  /** Validates data against the schemas. */
  validateData: DataValidator = () => undefined;
  #scheduled = false;
  #closed = false;
  #seq: number;

  constructor(
    tables: CommitTables,
    options: { limits: DocumentLimits; maxWaiting: WaitingLimits; resultBytes: number },
  ) {
    this.#tables = tables;
    this.#limits = options.limits;
    this.#maxWaiting = options.maxWaiting;
    this.#resultBytes = options.resultBytes;
    this.#begin = tables.database.prepare('BEGIN IMMEDIATE');
    this.#commit = tables.database.prepare('COMMIT');
    this.#rollback = tables.database.prepare('ROLLBACK');
    this.#seq = tables.journal.bounds().last;
  }

  get seq(): number {
    return this.#seq;
  }

  append(
    commit: Commit,
    { lane, sizeBytes, onSeq }: CommitOrigin = { lane: commit, sizeBytes: 0 },
  ): Promise<CommitOutcome> {
    if (this.#closed) {
      return Promise.reject(
        problemError('stopping', 'The service is stopping. Send the commit again after the restart.'),
      );
    }
    const { damage } = this.#tables.health;
    if (damage) return Promise.reject(damage);
    const { length } = this.#queue;
    const full = length >= this.#maxWaiting.commits || this.#queue.sizeBytes + sizeBytes > this.#maxWaiting.sizeBytes;
    if (full && length > 0) {
      return Promise.reject(problemError('overloaded', `${length} commits are waiting. Try again in a second.`));
    }
    return new Promise((resolve, reject) => {
      this.#queue.push({ commit, resolve, reject, weight: commit.writes.length, sizeBytes, onSeq }, lane);
      this.#schedule();
    });
  }

  /** Whether so much waits that more is turned away soon. */
  get crowded(): boolean {
    return (
      this.#queue.length > 0.9 * this.#maxWaiting.commits || this.#queue.sizeBytes > 0.9 * this.#maxWaiting.sizeBytes
    );
  }

  /** How many commits wait for their turn. */
  get waiting(): number {
    return this.#queue.length;
  }

  after(seq: number, limit: number): JournalEntry[] {
    return this.#tables.journal.after(seq, limit);
  }

  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }

  /** Writes the waiting commits and accepts no more. */
  close(): void {
    this.#closed = true;
    while (this.#queue.length > 0) this.#writeGroup();
  }

  #schedule(): void {
    if (this.#scheduled) return;
    this.#scheduled = true;
    setImmediate(() => {
      this.#scheduled = false;
      if (this.#queue.length === 0) return;
      this.#writeGroup();
      if (this.#queue.length > 0) this.#schedule();
    });
  }

  #writeGroup(): void {
    const waiting: Waiting[] = [];
    const started = performance.now();
    let outcomes: CommitOutcome[];
    try {
      outcomes = this.#applyAll(waiting);
    } catch (error) {
      // Where not even the transaction could begin, none was taken yet.
      if (waiting.length === 0) waiting.push(...this.#queue.take());
      const bytes = waiting.reduce((sum, { sizeBytes }) => sum + sizeBytes, 0);
      const problem = this.#tables.health.note(error, bytes) ?? (error as Error);
      this.onFailure(error as Error);
      for (const { reject } of waiting) reject(problem);
      return;
    }
    this.#tables.health.noteWritten();
    this.onGroup(waiting.length, performance.now() - started);
    const group = outcomes.flatMap((outcome) => ('applied' in outcome ? outcome.applied : []));
    outcomes.forEach((outcome, index) => 'applied' in outcome && waiting[index]!.onSeq?.(outcome.applied.seq));
    if (group.length > 0) for (const listener of this.#listeners) this.#notify(listener, group);
    waiting.forEach(({ resolve }, index) => resolve(outcomes[index]!));
  }

  #notify(listener: (group: readonly AppliedCommit[]) => void, group: readonly AppliedCommit[]): void {
    try {
      listener(group);
    } catch (error) {
      this.onListenerFault(error);
    }
  }

  /**
   * Applies commits from the queue in one transaction: all that are not refused are on disk afterwards, or none.
   *
   * @param taken gets the commits, in order
   */
  #applyAll(taken: Waiting[]): CommitOutcome[] {
    const seqBefore = this.#seq;
    this.#begin.run();
    try {
      const held = new HeldDocuments(this.#tables.collections, this.#tables.documents);
      const outcomes: CommitOutcome[] = [];
      const endsMs = performance.now() + MAX_GROUP_MS;
      for (const waiting of this.#queue.take()) {
        taken.push(waiting);
        outcomes.push(this.#apply(waiting.commit, held));
        if (performance.now() > endsMs) break;
      }
      this.#tables.collections.write();
      this.#tables.journal.writeSize();
      this.#commit.run();
      return outcomes;
    } catch (error) {
      if (this.#tables.database.inTransaction) this.#rollback.run();
      this.#seq = seqBefore;
      this.#tables.collections.reload();
      this.#tables.journal.reload();
      throw error;
    }
  }

  /** Applies a commit, unless one of its author's had this id before; then that one's outcome is the answer. */
  #apply(commit: Commit, held: HeldDocuments): CommitOutcome {
    const { id, author, digest = '' } = commit;
    if (id === undefined) return this.#evaluate(commit, held);
    const space = commit.idSpace ?? `${author.kind}:${author.name}`;
    const earlier = this.#tables.idempotencyRecords.get(space, id);
    if (earlier && earlier.digest !== digest) return { idReused: id };
    if (earlier)
      return 'seq' in earlier.outcome ? { repeated: describeRepeated(commit, earlier.outcome) } : earlier.outcome;
    const outcome = this.#evaluate(commit, held);
    if ('applied' in outcome || 'unchanged' in outcome) {
      const { seq, documents, warnings } = 'applied' in outcome ? outcome.applied : outcome.unchanged;
      const follow =
        'applied' in outcome && documents.every(({ version }, at) => version === versionOf(commit.writes[at]!, seq));
      this.#tables.idempotencyRecords.add(space, id, commit.timeMs, digest, {
        seq,
        ...(follow ? {} : { documents }),
        ...(warnings.length > 0 ? { warnings } : {}),
      });
      // The policy or the schema may change, so these refusals are evaluated again.
    } else if ('refused' in outcome && !CAN_CHANGE.has(outcome.refused.kind)) {
      this.#tables.idempotencyRecords.add(space, id, commit.timeMs, digest, outcome);
    }
    return outcome;
  }

  /** Evaluates a commit and, if it is applied, writes its rows. */
  #evaluate(commit: Commit, held: HeldDocuments): CommitOutcome {
    const evaluation = evaluateCommit(commit, this.#seq + 1, {
      held,
      contents: this.#tables.contents,
      limits: this.#limits,
      resultBytes: this.#resultBytes,
      policy: this.policy,
      validateData: this.validateData,
    });
    if (!('rows' in evaluation)) return evaluation.outcome;
    const stamp = { seq: ++this.#seq, timeMs: commit.timeMs };
    this.#tables.journal.addCommit(stamp.seq, commit.id, commit.timeMs, commit.author);
    for (const row of evaluation.rows) this.#writeRow(row, stamp);
    for (const [address, document] of evaluation.altered) held.set(address, document);
    return evaluation.outcome;
  }

  #writeRow({ write, before, after }: Row, stamp: { seq: number; timeMs: number }): void {
    const { collections, documents, journal, indexes } = this.#tables;
    const { number } = collections.count(write.collection, {
      ...stamp,
      documents: Number(Boolean(after)) - Number(Boolean(before)),
      sizeBytes: (after?.sizeBytes ?? 0) - (before?.sizeBytes ?? 0),
    });
    if (!after) documents.delete(number, write.id);
    else if (before) {
      // The document may have been made by an earlier write of this commit, and got its number only now.
      after.stored.number = before.stored.number;
      documents.update(number, after.stored);
    } else after.stored.number = documents.insert(number, after.stored);
    if (write.collection === FILES) this.#tables.contents.count(before?.document, after?.document, stamp.timeMs);
    const sizeBytes = (after?.sizeBytes ?? 0) + (before?.sizeBytes ?? 0);
    journal.addChange(stamp.seq, number, before?.stored, after?.stored, sizeBytes);
    indexes.update(number, before?.document, after?.document, (after ?? before)!.stored.number);
  }
}

/** The documents of a commit that was applied before, from the idempotency record or from its writes. */
function describeRepeated(
  { writes }: Commit,
  { seq, documents, warnings = [] }: Extract<Outcome, { seq: number }>,
): Receipt {
  const follow = () =>
    writes.map((write) => ({ collection: write.collection, id: write.id, version: versionOf(write, seq) ?? seq }));
  return { seq, documents: documents ?? follow(), warnings };
}

/** The version that a write leaves, where it follows from the write. */
function versionOf({ kind }: Write, seq: number): number | undefined {
  return kind === 'delete' ? 0 : kind === 'create' ? undefined : seq;
}
