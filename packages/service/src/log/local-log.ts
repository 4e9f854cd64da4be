import type Database from 'better-sqlite3';
import type { Commit } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { AppliedBatch, StateMachine } from '../state/state-machine.js';
import type { AppliedCommit, CommitOutcome, OutcomeOf, Refused } from '../state/outcomes.js';
import { CommitQueue, type Queued } from './commit-queue.js';
import { DurableWriter, type Durability, type LogHealth } from './durable-writer.js';
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

interface LocalWrite {
  write: (database: Database.Database) => void;
  done: () => void;
  failed: (error: unknown) => void;
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
 * together are applied one after another in one transaction. A batch holds either commits, or records of other kinds. So
 * a change is never distributed under an earlier policy than the one that allowed it.
 *
 * The event loop does not wait for the disk: a batch is written, synced in the background, and then acknowledged, made
 * readable and distributed. Records that arrive during the sync form the next batch.
 */
export class LocalLog implements Log {
  readonly #database: Database.Database;
  readonly #state: StateMachine;
  readonly #writer: DurableWriter;
  readonly #health: LogHealth;
  readonly #maxWaiting: WaitingLimits;
  readonly #listeners = new Set<(group: readonly AppliedCommit[]) => void>();
  readonly #batchListeners = new Set<(batch: AppliedBatch) => void>();
  readonly #queue = new CommitQueue<WaitingCommit>();
  readonly #records: WaitingRecord[] = [];
  #localWrites: LocalWrite[] = [];
  /** Called after each batch, with the number of records and the duration in milliseconds. */
  onGroup: (records: number, durationMs: number) => void = () => undefined;
  /** Called when a batch could not be written. */
  onFailure: (error: Error) => void = () => undefined;
  /** Called with errors of listeners. The records are on disk and acknowledged all the same. */
  onListenerFault: (error: unknown) => void = () => undefined;
  #lastWasRecords = false;
  #scheduled = false;
  #closed = false;
  #seq: number;

  constructor(
    database: Database.Database,
    state: StateMachine,
    durability: Durability,
    health: LogHealth,
    maxWaiting: WaitingLimits,
  ) {
    this.#database = database;
    this.#state = state;
    this.#health = health;
    this.#maxWaiting = maxWaiting;
    this.#writer = new DurableWriter(database, durability, health);
    this.#writer.onIdle = () => this.#schedule();
    this.#writer.onFailedSync = (error) => {
      this.onFailure(error);
      this.#refuseWaiting();
    };
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
   * Writes to local tables, which each node keeps for itself, in a transaction.
   *
   * @returns once they are on disk
   */
  writeLocally(write: (database: Database.Database) => void): Promise<void> {
    const refused = this.#whyClosed();
    if (refused) return Promise.reject(refused);
    return new Promise((resolve, reject) => {
      this.#localWrites.push({ write, done: resolve, failed: reject });
      this.#schedule();
    });
  }

  /** Applies records at once, while the store is being opened. */
  applyAtStart(records: readonly OtherRecord[]): void {
    const batch = this.#transact(() => {
      for (const record of records) this.#state.apply(record);
    });
    this.#writer.begin({ publish: () => this.#publish(batch!, []), fail: () => undefined });
    this.#writer.settleNow();
  }

  /** As {@link DurableWriter.whenDurable}. */
  whenDurable<Result>(work: () => Result): Promise<Result> {
    return this.#writer.whenDurable(work);
  }

  /** As {@link DurableWriter.pause}. */
  pause(work: () => Promise<void>): Promise<void> {
    return this.#writer.pause(work);
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

  /** Writes all waiting records and accepts no more. */
  close(): void {
    this.#closed = true;
    this.#writer.close();
    while (this.#isWaiting) {
      this.#writeNext();
      this.#writer.settleNow();
    }
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
    if (this.#scheduled || this.#writer.isBusy || !this.#isWaiting) return;
    this.#scheduled = true;
    setImmediate(() => {
      this.#scheduled = false;
      if (this.#writer.isBusy || this.#closed || !this.#isWaiting) return;
      this.#writeNext();
      if (this.#writer.isBusy) this.#writer.settleInBackground();
      else this.#schedule();
    });
  }

  #refuseWaiting(): void {
    const problem = this.#health.damage!;
    while (this.#queue.length > 0) for (const { reject } of this.#queue.take()) reject(problem);
    for (const { reject } of this.#records.splice(0)) reject(problem);
    for (const { failed } of this.#localWrites.splice(0)) failed(problem);
  }

  /** Writes the next batch, with the local writes that wait. */
  #writeNext(): void {
    const local = this.#localWrites.splice(0);
    // Commits and other records take turns, so that neither waits for long.
    const commitsFirst = this.#lastWasRecords && this.#queue.length > 0;
    this.#lastWasRecords = this.#records.length > 0 && !commitsFirst;
    if (this.#lastWasRecords) this.#writeRecords(local);
    else if (this.#queue.length > 0) this.#writeCommits(local);
    else this.#write(local, [], undefined, () => 0);
  }

  #writeRecords(local: readonly LocalWrite[]): void {
    const waiting = this.#records.splice(0, MAX_RECORDS);
    const apply = () => {
      for (const { record } of waiting) this.#state.apply(record);
    };
    this.#write(local, waiting, apply, () =>
      waiting.reduce((sum, { record }) => sum + JSON.stringify(record).length, 0),
    );
  }

  #writeCommits(local: readonly LocalWrite[]): void {
    const taken: WaitingCommit[] = [];
    const apply = () => {
      const endsMs = performance.now() + MAX_BATCH_MS;
      for (const waiting of this.#queue.take()) {
        taken.push(waiting);
        this.#state.apply({ kind: 'commit', commit: waiting.commit });
        if (performance.now() > endsMs) break;
      }
    };
    this.#write(local, taken, apply, () => {
      // Where not even the transaction could begin, none was taken yet.
      if (taken.length === 0) taken.push(...this.#queue.take());
      return taken.reduce((sum, { sizeBytes }) => sum + sizeBytes, 0);
    });
  }

  /**
   * Writes a batch. What comes of it is told once it is on disk.
   *
   * @param apply applies its records; undefined if there are only local writes
   * @param bytesOf about how much was to be written, if that failed
   */
  #write(
    local: readonly LocalWrite[],
    waiting: readonly { resolve(outcome: unknown): void; reject(error: Error): void }[],
    apply: (() => void) | undefined,
    bytesOf: () => number,
  ): void {
    const started = performance.now();
    let batch: AppliedBatch | undefined;
    const failed = new Map<LocalWrite, unknown>();
    const fail = (problem: unknown) => {
      for (const { reject } of waiting) reject(problem as Error);
      for (const write of local) write.failed(problem);
    };
    try {
      batch = this.#transact(apply, () => {
        for (const write of local) {
          const error = this.#tryLocally(write);
          if (error !== undefined) failed.set(write, error);
        }
      });
    } catch (error) {
      const problem = this.#health.note(error, bytesOf()) ?? (error as Error);
      if (apply) this.onFailure(error as Error);
      fail(problem);
      return;
    }
    this.#writer.begin({
      fail,
      publish: () => {
        for (const write of local) {
          if (failed.has(write)) write.failed(failed.get(write));
          else write.done();
        }
        if (!batch) return;
        this.#health.noteWritten();
        this.onGroup(waiting.length, performance.now() - started);
        this.#publish(batch, waiting);
      },
    });
  }

  /** Runs a local write as a part of a transaction. Returns its error, if the transaction goes on without it. */
  #tryLocally({ write }: LocalWrite): unknown {
    try {
      this.#database.transaction(() => write(this.#database))();
      return undefined;
    } catch (error) {
      // Some errors, such as a full disk, end the whole transaction.
      if (!this.#database.inTransaction) throw error;
      this.#health.note(error);
      return error;
    }
  }

  /** Applies records in one transaction: afterwards all are written, or none. */
  #transact(apply: (() => void) | undefined, before: () => void = () => undefined): AppliedBatch | undefined {
    const run = () => {
      before();
      apply?.();
      return apply && this.#state.finish();
    };
    return this.#writer.transact(run, () => this.#state.reload());
  }

  /** Tells the listeners of a batch, and answers the ones who wait for it. */
  #publish(
    batch: AppliedBatch,
    waiting: readonly { resolve(outcome: unknown): void; reject(error: Error): void; onSeq?: unknown }[],
  ): void {
    this.#seq = batch.seq;
    for (const listener of this.#batchListeners) this.#notify(() => listener(batch));
    batch.outcomes.forEach((outcome, index) => {
      if ('applied' in outcome) (waiting[index] as WaitingCommit | undefined)?.onSeq?.(outcome.applied.seq);
    });
    if (batch.commits.length > 0) for (const listener of this.#listeners) this.#notify(() => listener(batch.commits));
    waiting.forEach(({ resolve, reject }, index) => {
      const outcome = batch.outcomes[index]!;
      if ('problem' in outcome) reject(outcome.problem);
      else resolve(outcome);
    });
  }

  #notify(call: () => void): void {
    try {
      call();
    } catch (error) {
      this.onListenerFault(error);
    }
  }
}
