import type Database from 'better-sqlite3';
import type { ProblemError } from '@uproar/protocol';

/** Keeps the state of the disk: whether writing works, and the last failure. */
export interface LogHealth {
  /** Set once the file is damaged or a sync has failed. After that, all writes are refused. */
  readonly damage: ProblemError | undefined;
  /** Notes an error of the disk. Returns the problem to answer with; undefined for other errors. */
  note(error: unknown, bytes?: number): ProblemError | undefined;
  /** Records a failed sync. All writes are refused until the next start. Returns the problem to answer with. */
  noteFailedSync(error: Error): ProblemError;
  noteWritten(): void;
}

/** Syncs written transactions to disk, and then lets readers see them. */
export interface Durability {
  /** Called right after a transaction: fixes the state that is to be read once it is on disk. */
  written(): void;
  /** Calls back once everything written so far is on disk. */
  sync(done: (error: Error | null) => void): void;
  /** As `sync`, at once. Nothing else is served meanwhile. */
  syncNow(): void;
  /** Makes the state readable that `written` has fixed. */
  publish(): void;
  /** Lets go of all states for reading, and fixes the present one again. */
  release(): void;
  resume(): void;
}

/** A transaction that is written, but not synced yet. */
export interface InFlight {
  /** Called once it is on disk and readable. */
  publish(): void;
  /** Called when the sync has failed. */
  fail(problem: Error): void;
}

/** Writes one transaction after another, and makes each durable before the next one, without waiting for the disk. */
export class DurableWriter {
  readonly #database: Database.Database;
  readonly #durability: Durability;
  readonly #health: LogHealth;
  readonly #begin: Database.Statement;
  readonly #commit: Database.Statement;
  readonly #rollback: Database.Statement;
  #inFlight: InFlight | undefined;
  /** The problem of a failed sync. After it, the content of the disk is unknown. */
  #failure: ProblemError | undefined;
  /** Work that needs everything written to be on disk. */
  readonly #whenDurable: (() => void)[] = [];
  #paused = false;
  /** Whether readers hold no snapshot. */
  #released = false;
  #closed = false;
  /** Resolves when the pauses so far are over. */
  #pauses: Promise<unknown> = Promise.resolve();
  /** Called when the next transaction may be written. */
  onIdle: () => void = () => undefined;
  /** Called when a sync has failed. Nothing may be written any more. */
  onFailedSync: (error: Error) => void = () => undefined;

  constructor(database: Database.Database, durability: Durability, health: LogHealth) {
    this.#database = database;
    this.#durability = durability;
    this.#health = health;
    this.#begin = database.prepare('BEGIN IMMEDIATE');
    this.#commit = database.prepare('COMMIT');
    this.#rollback = database.prepare('ROLLBACK');
  }

  /** Whether the next transaction must wait. */
  get isBusy(): boolean {
    return this.#inFlight !== undefined || this.#paused;
  }

  /**
   * Runs `write` in a transaction.
   *
   * @param undo called when the transaction was rolled back
   */
  transact<Result>(write: () => Result, undo: () => void): Result {
    this.#begin.run();
    try {
      const result = write();
      this.#commit.run();
      return result;
    } catch (error) {
      if (this.#database.inTransaction) this.#rollback.run();
      undo();
      throw error;
    }
  }

  /** Takes over the transaction that {@link transact} has written. Call one of the `settle` methods next. */
  begin(inFlight: InFlight): void {
    this.#durability.written();
    this.#inFlight = inFlight;
  }

  /** Syncs it while other work goes on. */
  settleInBackground(): void {
    const inFlight = this.#inFlight;
    if (inFlight) this.#durability.sync((error) => this.#settle(inFlight, error));
  }

  /** Syncs it at once: at the start, and at the end. */
  settleNow(): void {
    if (!this.#inFlight) return;
    let failure: Error | null = null;
    try {
      this.#durability.syncNow();
    } catch (error) {
      failure = error as Error;
    }
    this.#settle(this.#inFlight, failure);
  }

  /**
   * Runs `work` when all written transactions are on disk, so that it cannot read data that may be lost. The next
   * transaction is written after it.
   *
   * @throws {ProblemError} `storage-failed` after a failed sync
   */
  whenDurable<Result>(work: () => Result): Promise<Result> {
    return new Promise((resolve, reject) => {
      const run = () => {
        if (this.#failure) {
          reject(this.#failure);
          return;
        }
        try {
          resolve(work());
        } catch (error) {
          reject(error as Error);
        }
      };
      if (this.#inFlight) this.#whenDurable.push(run);
      else run();
    });
  }

  /** Runs `work` when all transactions are on disk. Until it ends, writers wait, and readers hold no snapshot. */
  pause(work: () => Promise<void>): Promise<void> {
    const turn = this.#pauses.then(() => this.#pauseOnce(work));
    this.#pauses = turn.catch(() => undefined);
    return turn;
  }

  /** Ends a pause, and syncs the transaction in flight. */
  close(): void {
    this.#closed = true;
    this.#resume();
    this.settleNow();
  }

  async #pauseOnce(work: () => Promise<void>): Promise<void> {
    if (this.#closed) return;
    this.#paused = true;
    try {
      await this.whenDurable(() => {
        this.#durability.release();
        this.#released = true;
      });
      if (!this.#closed) await work();
    } finally {
      this.#paused = false;
      if (!this.#closed) this.#resume();
      if (!this.#closed) this.onIdle();
    }
  }

  #resume(): void {
    if (this.#released) this.#durability.resume();
    this.#released = false;
  }

  /** Handles the result of a sync: publishes the transaction, or fails it. */
  #settle(inFlight: InFlight, error: Error | null): void {
    if (this.#inFlight !== inFlight) return;
    this.#inFlight = undefined;
    if (error) {
      // A sync is never repeated: the system may have dropped the pages that it could not write.
      this.#failure = this.#health.noteFailedSync(error);
      inFlight.fail(this.#failure);
      this.onFailedSync(error);
    } else {
      this.#durability.publish();
      inFlight.publish();
    }
    for (const run of this.#whenDurable.splice(0)) run();
    this.onIdle();
  }
}
