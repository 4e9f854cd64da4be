import type { Commit } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { CommitOutcome, OutcomeOf, Refused } from '../state/outcomes.js';
import { CommitQueue, type Queued } from './commit-queue.js';
import type { CommitOrigin, OtherRecord } from './log.js';

/** A caller that waits for the outcome of a record. */
export interface Waiting {
  resolve(outcome: unknown): void;
  reject(error: Error): void;
  /** Called with the seq of an applied commit, before its changes are distributed. */
  onSeq?: ((seq: number) => void) | undefined;
}

/** A commit that waits for its turn. */
export interface WaitingCommit extends Waiting, Queued {
  commit: Commit;
}

/** Another record that waits for its turn. */
export interface WaitingRecord extends Waiting {
  record: OtherRecord;
}

/** How much may wait for its turn before more is turned away. */
export interface WaitingLimits {
  commits: number;
  sizeBytes: number;
}

/** The most records other than commits in one batch. */
const MAX_RECORDS = 200;

/** The records that wait for their turn. Commits and other records take turns, so that neither waits for long. */
export class Intake {
  readonly #limits: WaitingLimits;
  readonly #whyClosed: () => Error | undefined;
  readonly #onArrival: () => void;
  readonly #queue = new CommitQueue<WaitingCommit>();
  readonly #records: WaitingRecord[] = [];
  #lastWasRecords = false;

  /** @param whyClosed why nothing is taken any more; undefined while records are taken */
  constructor(limits: WaitingLimits, whyClosed: () => Error | undefined, onArrival: () => void) {
    this.#limits = limits;
    this.#whyClosed = whyClosed;
    this.#onArrival = onArrival;
  }

  append(
    commit: Commit,
    { lane, sizeBytes, onSeq }: CommitOrigin = { lane: commit, sizeBytes: 0 },
  ): Promise<CommitOutcome> {
    const refused = this.#whyClosed();
    if (refused) return Promise.reject(refused);
    const { length } = this.#queue;
    const full = length >= this.#limits.commits || this.#queue.sizeBytes + sizeBytes > this.#limits.sizeBytes;
    if (full && length > 0) {
      return Promise.reject(problemError('overloaded', `${length} commits are waiting. Try again in a second.`));
    }
    return new Promise((resolve: (outcome: never) => void, reject) => {
      this.#queue.push({ commit, resolve, reject, onSeq, weight: commit.writes.length, sizeBytes }, lane);
      this.#onArrival();
    });
  }

  propose<Proposed extends OtherRecord>(record: Proposed): Promise<Exclude<OutcomeOf<Proposed>, Refused>> {
    const refused = this.#whyClosed();
    if (refused) return Promise.reject(refused);
    if (this.#records.length >= this.#limits.commits) {
      return Promise.reject(
        problemError('overloaded', `${this.#records.length} changes are waiting. Try again in a second.`),
      );
    }
    return new Promise((resolve, reject) => {
      this.#records.push({ record, resolve: resolve as (outcome: unknown) => void, reject });
      this.#onArrival();
    });
  }

  get isEmpty(): boolean {
    return this.#queue.length + this.#records.length === 0;
  }

  /** How many commits wait. */
  get commits(): number {
    return this.#queue.length;
  }

  get crowded(): boolean {
    return this.#queue.length > 0.9 * this.#limits.commits || this.#queue.sizeBytes > 0.9 * this.#limits.sizeBytes;
  }

  /** The kind of records that the next batch takes. */
  nextKind(): 'commits' | 'records' | undefined {
    if (this.isEmpty) return undefined;
    const commitsFirst = this.#lastWasRecords && this.#queue.length > 0;
    this.#lastWasRecords = this.#records.length > 0 && !commitsFirst;
    return this.#lastWasRecords ? 'records' : 'commits';
  }

  /** The commits of the next batch. Those that are not iterated keep waiting. */
  takeCommits(): Iterable<WaitingCommit> {
    return this.#queue.take();
  }

  /** The other records of the next batch. */
  takeRecords(): WaitingRecord[] {
    return this.#records.splice(0, MAX_RECORDS);
  }

  /** Refuses everything that waits. */
  refuseAll(problem: Error): void {
    while (this.#queue.length > 0) for (const { reject } of this.#queue.take()) reject(problem);
    for (const { reject } of this.#records.splice(0)) reject(problem);
  }
}
