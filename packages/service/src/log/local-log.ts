import type Database from 'better-sqlite3';
import type { Commit } from '@uproar/core';
import { problemError, type ProblemError } from '@uproar/protocol';
import type { AppliedBatch, StateMachine } from '../state/state-machine.js';
import type { AppliedCommit, CommitOutcome, OutcomeOf, Outcomes, Refused } from '../state/outcomes.js';
import { CommitQueue, type Queued } from './commit-queue.js';
import type { CommitOrigin, Log, OtherRecord } from './log.js';

interface WaitingCommit extends Queued {
  commit: Commit;
  onSeq: ((seq: number) => void) | undefined;
  resolve(outcome: CommitOutcome): void;
  reject(error: Error): void;
}

interface WaitingRecord {
  record: OtherRecord;
  resolve(outcome: never): void;
  reject(error: Error): void;
}

/** Why nothing can be written, and what failed. */
export interface LogHealth {
  /** Set once the file is damaged; from then on nothing is written. */
  readonly damage: ProblemError | undefined;
  /** Notes an error of the disk. Returns the problem to answer with; undefined for other errors. */
  note(error: unknown, bytes?: number): ProblemError | undefined;
  noteWritten(): void;
}

/** A batch is closed when applying it has taken so long, so that others are served in between. */
const MAX_BATCH_MS = 30;

/** The most records other than commits in one batch. */
const MAX_RECORDS = 200;

/** How much may wait for its turn before more is turned away. */
export interface WaitingLimits {
  commits: number;
  sizeBytes: number;
}

/**
 * The log of a store on one node. The order is that of arrival. The SQLite transaction is the log: records that arrive
 * together are applied one after another in one transaction with one sync to disk. A batch holds either commits, or
 * records of other kinds, so that what a policy allows is not distributed under the policy before it.
 */
export class LocalLog implements Log {
  readonly #database: Database.Database;
  readonly #state: StateMachine;
  readonly #health: LogHealth;
  readonly #maxWaiting: WaitingLimits;
  readonly #listeners = new Set<(group: readonly AppliedCommit[]) => void>();
  readonly #batchListeners = new Set<(batch: AppliedBatch) => void>();
  readonly #begin: Database.Statement;
  readonly #commit: Database.Statement;
  readonly #rollback: Database.Statement;
  readonly #queue = new CommitQueue<WaitingCommit>();
  readonly #records: WaitingRecord[] = [];
  readonly #localWrites: {
    write: (database: Database.Database) => void;
    done: () => void;
    failed: (error: unknown) => void;
  }[] = [];
  /** Called after each batch, with the number of records and the duration in milliseconds. */
  onGroup: (records: number, durationMs: number) => void = () => undefined;
  /** Called when a batch could not be written. */
  onFailure: (error: Error) => void = () => undefined;
  /** Called with errors of listeners. The records are on disk and acknowledged all the same. */
  onListenerFault: (error: unknown) => void = () => undefined;
  #scheduled = false;
  #closed = false;
  #seq: number;

  constructor(database: Database.Database, state: StateMachine, health: LogHealth, maxWaiting: WaitingLimits) {
    this.#database = database;
    this.#state = state;
    this.#health = health;
    this.#maxWaiting = maxWaiting;
    this.#begin = database.prepare('BEGIN IMMEDIATE');
    this.#commit = database.prepare('COMMIT');
    this.#rollback = database.prepare('ROLLBACK');
    this.#seq = state.seq;
  }

  get seq(): number {
    return this.#seq;
  }

  append(
    commit: Commit,
    { lane, sizeBytes, onSeq }: CommitOrigin = { lane: commit, sizeBytes: 0 },
  ): Promise<CommitOutcome> {
    const refused = this.#whyClosed();
    if (refused) return Promise.reject(refused);
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

  propose<Proposed extends OtherRecord>(record: Proposed): Promise<Exclude<OutcomeOf<Proposed>, Refused>> {
    const refused = this.#whyClosed();
    if (refused) return Promise.reject(refused);
    if (this.#records.length >= this.#maxWaiting.commits) {
      return Promise.reject(
        problemError('overloaded', `${this.#records.length} changes are waiting. Try again in a second.`),
      );
    }
    return new Promise((resolve, reject) => {
      this.#records.push({ record, resolve, reject });
      this.#schedule();
    });
  }

  /**
   * Runs statements on local tables in a transaction: what each node keeps for itself.
   *
   * @returns once they are on disk
   */
  writeLocally(write: (database: Database.Database) => void): Promise<void> {
    return new Promise((resolve, reject) => {
      this.#localWrites.push({ write, done: resolve, failed: reject });
      this.#schedule();
    });
  }

  /** Applies records at once, while the store is being opened and nothing else waits. */
  applyAtStart(records: readonly OtherRecord[]): void {
    const batch = this.#transact(() => {
      for (const record of records) this.#state.apply(record);
    });
    this.#publish(batch);
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

  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }

  onBatch(listener: (batch: AppliedBatch) => void): () => void {
    this.#batchListeners.add(listener);
    return () => this.#batchListeners.delete(listener);
  }

  /** Writes what waits and accepts no more. */
  close(): void {
    this.#closed = true;
    while (this.#isWaiting) this.#writeNext();
  }

  get #isWaiting(): boolean {
    return this.#queue.length + this.#records.length + this.#localWrites.length > 0;
  }

  #whyClosed(): Error | undefined {
    if (this.#closed) {
      return problemError('stopping', 'The service is stopping. Send the commit again after the restart.');
    }
    return this.#health.damage;
  }

  #schedule(): void {
    if (this.#scheduled) return;
    this.#scheduled = true;
    setImmediate(() => {
      this.#scheduled = false;
      if (!this.#isWaiting) return;
      this.#writeNext();
      if (this.#isWaiting) this.#schedule();
    });
  }

  #writeNext(): void {
    if (this.#localWrites.length > 0) this.#writeLocal();
    if (this.#records.length > 0) this.#writeRecords();
    else if (this.#queue.length > 0) this.#writeCommits();
  }

  #writeLocal(): void {
    const writes = this.#localWrites.splice(0);
    for (const { write, done, failed } of writes) {
      try {
        this.#database.transaction(() => write(this.#database))();
        done();
      } catch (error) {
        this.#health.note(error);
        failed(error);
      }
    }
  }

  #writeRecords(): void {
    const waiting = this.#records.splice(0, MAX_RECORDS);
    this.#write(
      waiting,
      () => {
        for (const { record } of waiting) this.#state.apply(record);
      },
      () => waiting.reduce((sum, { record }) => sum + JSON.stringify(record).length, 0),
    );
  }

  #writeCommits(): void {
    const taken: WaitingCommit[] = [];
    const apply = () => {
      const endsMs = performance.now() + MAX_BATCH_MS;
      for (const waiting of this.#queue.take()) {
        taken.push(waiting);
        this.#state.apply({ kind: 'commit', commit: waiting.commit });
        if (performance.now() > endsMs) break;
      }
    };
    this.#write(taken, apply, () => {
      // Where not even the transaction could begin, none was taken yet.
      if (taken.length === 0) taken.push(...this.#queue.take());
      return taken.reduce((sum, { sizeBytes }) => sum + sizeBytes, 0);
    });
  }

  /**
   * Writes a batch and answers the ones who wait for it.
   *
   * @param bytesOf about how much was to be written, if that failed
   */
  #write(
    waiting: readonly { resolve(outcome: unknown): void; reject(error: Error): void; onSeq?: unknown }[],
    apply: () => void,
    bytesOf: () => number,
  ): void {
    const started = performance.now();
    let batch: AppliedBatch;
    try {
      batch = this.#transact(apply);
    } catch (error) {
      const problem = this.#health.note(error, bytesOf()) ?? (error as Error);
      this.onFailure(error as Error);
      for (const { reject } of waiting) reject(problem);
      return;
    }
    this.#health.noteWritten();
    this.onGroup(waiting.length, performance.now() - started);
    this.#publish(batch, waiting as readonly Partial<Pick<WaitingCommit, 'onSeq'>>[]);
    waiting.forEach(({ resolve, reject }, index) => {
      const outcome = batch.outcomes[index]!;
      if ('problem' in outcome) reject(outcome.problem);
      else resolve(outcome);
    });
  }

  /** Applies records in one transaction: afterwards all are on disk, or none. */
  #transact(apply: () => void): AppliedBatch {
    this.#begin.run();
    try {
      apply();
      const batch = this.#state.finish();
      this.#commit.run();
      return batch;
    } catch (error) {
      if (this.#database.inTransaction) this.#rollback.run();
      this.#state.reload();
      throw error;
    }
  }

  #publish(batch: AppliedBatch, waiting: readonly Partial<Pick<WaitingCommit, 'onSeq'>>[] = []): void {
    this.#seq = batch.seq;
    for (const listener of this.#batchListeners) this.#notify(() => listener(batch));
    batch.outcomes.forEach((outcome, index) => {
      if ('applied' in outcome) waiting[index]?.onSeq?.(outcome.applied.seq);
    });
    if (batch.commits.length === 0) return;
    for (const listener of this.#listeners) this.#notify(() => listener(batch.commits));
  }

  #notify(call: () => void): void {
    try {
      call();
    } catch (error) {
      this.onListenerFault(error);
    }
  }
}

export type { Outcomes };
