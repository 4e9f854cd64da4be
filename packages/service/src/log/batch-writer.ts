import type Database from 'better-sqlite3';
import type { AppliedCommit } from '../state/outcomes.js';
import type { AppliedBatch, StateMachine } from '../state/state-machine.js';
import { DurableWriter, type Durability, type LogHealth } from './durable-writer.js';
import type { Waiting, WaitingLimits } from './intake.js';

/** What a log works with. */
export interface LogParts {
  database: Database.Database;
  state: StateMachine;
  durability: Durability;
  health: LogHealth;
  /** How much may wait for its turn before more is turned away. */
  maxWaiting: WaitingLimits;
}

/** A batch, and the callers that wait for its outcomes: one for each record, in order. */
export interface AnsweredBatch {
  batch: AppliedBatch;
  waiting: readonly Waiting[];
  /** Called when the batch is on disk and the callers have their outcomes. */
  settled?(): void;
}

/** Batches to write in one transaction. */
export interface BatchWrite {
  /** Applies their records. */
  apply(): AnsweredBatch[];
  /** Called if writing or syncing them failed. */
  failed(problem: Error): void;
  /** The approximate size of the batches, in bytes. */
  sizeBytes(): number;
}

interface LocalWrite {
  write: (database: Database.Database) => void;
  done: () => void;
  failed: (error: unknown) => void;
}

/**
 * Applies batches to the store, one transaction after another, and calls the listeners once they are on disk.
 *
 * The event loop does not wait for the disk: a transaction is written, synced in the background, and then its batches
 * are acknowledged, made readable and distributed.
 */
export class BatchWriter {
  readonly #database: Database.Database;
  readonly #state: StateMachine;
  readonly #writer: DurableWriter;
  readonly #health: LogHealth;
  readonly #listeners = new Set<(group: readonly AppliedCommit[]) => void>();
  readonly #batchListeners = new Set<(batch: AppliedBatch) => void>();
  #localWrites: LocalWrite[] = [];
  #seq: number;
  /** Called after each transaction, with the number of records and the duration in milliseconds. */
  onGroup: (records: number, durationMs: number) => void = () => undefined;
  /** Called when batches could not be written. */
  onFailure: (error: Error) => void = () => undefined;
  /** Called with errors of listeners. */
  onListenerFault: (error: unknown) => void = () => undefined;
  /** Called when the next transaction may be written. */
  onIdle: () => void = () => undefined;
  /** Called when a sync has failed. Nothing is written any more. */
  onFailedSync: () => void = () => undefined;

  constructor({ database, state, durability, health }: Omit<LogParts, 'maxWaiting'>) {
    this.#database = database;
    this.#state = state;
    this.#health = health;
    this.#writer = new DurableWriter(database, durability, health);
    this.#writer.onIdle = () => this.onIdle();
    this.#writer.onFailedSync = (error) => {
      this.onFailure(error);
      for (const { failed } of this.#localWrites.splice(0)) failed(this.#health.damage);
      this.onFailedSync();
    };
    this.#seq = state.seq;
  }

  /** The seq of the newest commit that is on disk. */
  get seq(): number {
    return this.#seq;
  }

  /** Whether the next transaction must wait. */
  get isBusy(): boolean {
    return this.#writer.isBusy;
  }

  get hasLocalWrites(): boolean {
    return this.#localWrites.length > 0;
  }

  onApplied(listener: (group: readonly AppliedCommit[]) => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }

  onBatch(listener: (batch: AppliedBatch) => void): () => void {
    this.#batchListeners.add(listener);
    return () => this.#batchListeners.delete(listener);
  }

  /** Adds a local write to the next transaction. Resolves when it is on disk. */
  addLocally(write: (database: Database.Database) => void): Promise<void> {
    return new Promise((resolve, reject) => this.#localWrites.push({ write, done: resolve, failed: reject }));
  }

  /** As {@link DurableWriter.whenDurable}. */
  whenDurable<Result>(work: () => Result): Promise<Result> {
    return this.#writer.whenDurable(work);
  }

  /** As {@link DurableWriter.pause}. */
  pause(work: () => Promise<void>): Promise<void> {
    return this.#writer.pause(work);
  }

  /** Writes a transaction: the local writes that wait, and batches. Afterwards all are written, or none. */
  write(batches?: BatchWrite): void {
    const local = this.#localWrites.splice(0);
    const started = performance.now();
    const failed = new Map<LocalWrite, unknown>();
    const fail = (problem: unknown) => {
      batches?.failed(problem as Error);
      for (const write of local) write.failed(problem);
    };
    const run = () => {
      for (const write of local) {
        const error = this.#tryLocally(write);
        if (error !== undefined) failed.set(write, error);
      }
      return batches?.apply();
    };
    let applied: AnsweredBatch[] | undefined;
    try {
      applied = this.#writer.transact(run, () => this.#state.reload());
    } catch (error) {
      const problem = this.#health.note(error, batches?.sizeBytes() ?? 0) ?? (error as Error);
      if (batches) this.onFailure(error as Error);
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
        if (!applied) return;
        this.#health.noteWritten();
        const records = applied.reduce((sum, { batch }) => sum + batch.records.length, 0);
        this.onGroup(records, performance.now() - started);
        for (const one of applied) this.#publish(one);
      },
    });
  }

  /** Syncs what was written while other work goes on. */
  settleInBackground(): void {
    this.#writer.settleInBackground();
  }

  /** Syncs what was written at once. */
  settleNow(): void {
    this.#writer.settleNow();
  }

  /** Ends a pause, and syncs what was written. */
  close(): void {
    this.#writer.close();
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

  /** Calls the listeners with a batch, and resolves the promises of its callers. */
  #publish({ batch, waiting, settled }: AnsweredBatch): void {
    this.#seq = batch.seq;
    for (const listener of this.#batchListeners) this.#notify(() => listener(batch));
    batch.outcomes.forEach((outcome, index) => {
      if ('applied' in outcome && outcome.applied) waiting[index]?.onSeq?.(outcome.applied.seq);
    });
    if (batch.commits.length > 0) for (const listener of this.#listeners) this.#notify(() => listener(batch.commits));
    waiting.forEach(({ resolve, reject }, index) => {
      const outcome = batch.outcomes[index]!;
      if ('problem' in outcome) reject(outcome.problem);
      else resolve(outcome);
    });
    settled?.();
  }

  #notify(call: () => void): void {
    try {
      call();
    } catch (error) {
      this.onListenerFault(error);
    }
  }
}
