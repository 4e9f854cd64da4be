import { PROBLEM_TYPE_PREFIX, ProblemError } from '@uproar/protocol/problem-error';
import type { Problem, PROBLEMS, Receipt, WireCommit } from '@uproar/protocol';
import { checkSendable } from './sendable.js';
import { pendingWritesOf, type PendingWrite } from './pending.js';
import type { ClientStorage, OutboxEntry, OutboxMessage } from '../storage/storage.js';

/** Entries in flight at the same time, for links that keep their order. */
const MAX_UNDER_WAY = 16;

/** The store forgets commit ids after 24 hours; older commits cannot be repeated safely. */
const SAFE_TO_REPEAT_MS = 23 * 3_600_000;

/** The problem of a write that was sent longer ago. */
const OUTCOME_UNKNOWN: Problem = {
  type: `${PROBLEM_TYPE_PREFIX}outcome-unknown`,
  title: 'It is unknown whether the write was applied' satisfies (typeof PROBLEMS)['outcome-unknown']['title'],
  status: 409,
  detail: 'It was sent more than 23 hours ago, without an answer.',
};

/** Waits before sending again after the service had too much to do, in milliseconds. */
const BUSY_WAIT_MS = 1000;

/** A write that the store refused after it had waited in the outbox, and why. */
export interface Refused {
  commit: WireCommit;
  problem: Problem;
}

/**
 * Decides what becomes of a write that was refused: nothing more (undefined: it is undone, and its promise rejected), or another
 * commit that is sent in its place.
 */
export type OnRefused =
  | ((refused: Refused) => WireCommit | undefined | Promise<WireCommit | undefined>)
  | ((refused: Refused) => void)
  | ((refused: Refused) => Promise<void>);

/** What an outbox works with. */
export interface OutboxOptions {
  storage: ClientStorage;
  newId: () => string;
  /** The most bytes of a commit that the store takes. */
  maxCommitBytes: () => number;
  /** Sends a commit. Rejects with a ProblemError when the service refuses, with anything else when no answer came. */
  send(commit: WireCommit): Promise<Receipt>;
  isOnline(): boolean;
  /** Whether calls arrive in the order in which they are sent. */
  keepsOrder(): boolean;
  onRefused?: OnRefused | undefined;
  /** Called when entries were added or removed; with a `receipt` when one was acknowledged. */
  changed(entry: OutboxEntry, receipt?: Receipt): void;
}

interface Waiting {
  entry: OutboxEntry;
  writes: PendingWrite[];
  underWay: boolean;
  settle: { resolve(receipt: Receipt): void; reject(error: Error): void }[];
  /** Whether the caller starts again after a conflict with a document it read. */
  retried: boolean;
}

/**
 * Writes that the store has not acknowledged yet. They are kept in the storage, sent in order, each once, and shown as pending
 * meanwhile.
 */
export class Outbox {
  readonly #options: OutboxOptions;
  readonly #waiting = new Map<string, Waiting>();
  readonly #loaded: Promise<void>;
  #leads: boolean;
  #closed = false;
  #busyTimer: ReturnType<typeof setTimeout> | undefined;

  constructor(options: OutboxOptions) {
    this.#options = options;
    const { storage } = options;
    this.#leads = storage.share === undefined;
    this.#loaded = this.#load();
    void this.#loaded.then(() =>
      storage.share?.({
        lead: (done) => {
          this.#leads = true;
          void done.then(() => (this.#leads = false));
          // What another has settled while this one did not listen yet is gone from the storage.
          void this.#reload();
        },
        heard: (message) => this.#hear(message),
      }),
    );
  }

  /** How many writes wait. */
  get size(): number {
    return this.#waiting.size;
  }

  /** The pending writes, in the order of their making. */
  *writes(): Generator<PendingWrite> {
    for (const { writes } of this.#waiting.values()) yield* writes;
  }

  /** Resolves when the entries of the storage have been loaded. */
  get ready(): Promise<void> {
    return this.#loaded;
  }

  /**
   * Adds a commit. Resolves with its receipt when it is acknowledged; rejects when it is refused, or can never be sent.
   *
   * @param retried whether the caller starts again after a conflict with a document it read, so that `onRefused` is not
   *   called
   */
  async add(commit: WireCommit, retried = false): Promise<Receipt> {
    const { newId, storage } = this.#options;
    const entry: OutboxEntry = {
      commit: {
        ...commit,
        id: commit.id ?? newId(),
        writes: commit.writes.map((write) =>
          'create' in write && write.id === undefined ? { ...write, id: newId() } : write,
        ),
      },
      at: Date.now(),
    };
    checkSendable(entry.commit, this.#options.maxCommitBytes());
    return new Promise((resolve, reject) => {
      const waiting = this.#take(entry);
      waiting.retried = retried;
      waiting.settle.push({ resolve, reject });
      this.#options.changed(entry);
      // A storage may also fail at once.
      (async () => storage.putEntry(entry))().then(
        () => {
          storage.announce?.({ kind: 'added', entry });
          this.pump();
        },
        (error: unknown) => {
          // What cannot be stored is not sent either: the caller gets the error at once.
          this.#waiting.delete(entry.commit.id);
          this.#options.changed(entry);
          reject(error as Error);
        },
      );
    });
  }

  /**
   * Resolves when the outcome of all writes is known that were sent and got no answer, which the store may hold or not.
   * Undefined when there are none.
   */
  settledUnsure(): Promise<unknown> | undefined {
    const unsure = [...this.#waiting.values()].filter(({ entry }) => entry.sentAt !== undefined);
    if (unsure.length === 0) return undefined;
    return Promise.all(
      unsure.map(
        ({ settle }) =>
          new Promise<void>((resolve) => settle.push({ resolve: () => resolve(), reject: () => resolve() })),
      ),
    );
  }

  /** Notes the seq of a commit that is on disk, before its changes arrive. */
  accepted(id: string, seq: number): void {
    for (const write of this.#waiting.get(id)?.writes ?? []) write.seq = seq;
  }

  /** Sends what can be sent. */
  pump(): void {
    if (!this.#leads || this.#closed || this.#busyTimer || !this.#options.isOnline()) return;
    let underWay = 0;
    const most = this.#options.keepsOrder() ? MAX_UNDER_WAY : 1;
    for (const waiting of this.#waiting.values()) {
      if (underWay >= most) return;
      underWay++;
      if (!waiting.underWay) void this.#send(waiting);
    }
  }

  close(): void {
    this.#closed = true;
    clearTimeout(this.#busyTimer);
  }

  #take(entry: OutboxEntry): Waiting {
    const waiting: Waiting = {
      entry,
      writes: pendingWritesOf(entry.commit, entry.at),
      underWay: false,
      settle: [],
      retried: false,
    };
    this.#waiting.set(entry.commit.id, waiting);
    return waiting;
  }

  async #load(): Promise<void> {
    const stored = await this.#options.storage.entries();
    if (this.#closed) return;
    // Commits made before the storage was loaded come after those in the storage.
    const early = [...this.#waiting];
    this.#waiting.clear();
    const known = new Set(early.map(([id]) => id));
    for (const entry of stored) if (!known.has(entry.commit.id)) this.#take(entry);
    const loaded = [...this.#waiting.values()];
    for (const [id, waiting] of early) this.#waiting.set(id, waiting);
    for (const { entry } of loaded) this.#options.changed(entry);
    this.pump();
  }

  async #reload(): Promise<void> {
    const there = new Set((await this.#options.storage.entries()).map(({ commit }) => commit.id));
    for (const [id, waiting] of this.#waiting) {
      if (there.has(id) || waiting.settle.length > 0) continue;
      this.#waiting.delete(id);
      this.#options.changed(waiting.entry);
    }
    this.pump();
  }

  async #send(waiting: Waiting): Promise<void> {
    const { entry } = waiting;
    waiting.underWay = true;
    try {
      if (entry.sentAt !== undefined && Date.now() - entry.sentAt > SAFE_TO_REPEAT_MS) {
        throw new ProblemError(OUTCOME_UNKNOWN);
      }
      if (entry.sentAt === undefined) {
        entry.sentAt = Date.now();
        this.#options.storage.putEntry(entry).catch(() => undefined);
      }
      const receipt = await this.#options.send(entry.commit);
      await this.#remove(waiting, { receipt });
      this.#options.changed(entry, receipt);
      for (const { resolve } of waiting.settle) resolve(receipt);
    } catch (error) {
      waiting.underWay = false;
      if (this.#closed) return;
      const problem = error instanceof ProblemError ? error.problem : undefined;
      if (!problem || [429, 503].includes(problem.status)) {
        // Without an answer the connection may last, or be a new one already; otherwise the next one sends it.
        if (this.#options.isOnline())
          this.#busyTimer ??= setTimeout(() => {
            this.#busyTimer = undefined;
            this.pump();
          }, waitMsOf(problem));
        return;
      }
      await this.#refused(waiting, error as ProblemError);
    }
    this.pump();
  }

  async #refused(waiting: Waiting, error: ProblemError): Promise<void> {
    const { entry } = waiting;
    const refused = { commit: entry.commit, problem: error.problem };
    let instead: unknown;
    try {
      if (!waiting.retried || error.problem.read === undefined) instead = await this.#options.onRefused?.(refused);
    } catch (fault) {
      console.error(fault);
    }
    await this.#remove(waiting, { problem: error.problem });
    this.#options.changed(entry);
    if (instead) {
      const again = this.add({ ...(instead as WireCommit), id: this.#options.newId() });
      for (const { resolve, reject } of waiting.settle) again.then(resolve, reject);
      again.catch(() => undefined);
    } else for (const { reject } of waiting.settle) reject(error);
  }

  async #remove({ entry }: Waiting, outcome: { receipt?: Receipt; problem?: Problem }): Promise<void> {
    const { id } = entry.commit;
    this.#waiting.delete(id);
    await this.#options.storage.removeEntry(id).catch(() => undefined);
    this.#options.storage.announce?.({ kind: 'settled', id, ...outcome });
  }

  #hear(message: OutboxMessage): void {
    if (message.kind === 'added') {
      if (this.#waiting.has(message.entry.commit.id)) return;
      this.#take(message.entry);
      this.#options.changed(message.entry);
      this.pump();
      return;
    }
    const waiting = this.#waiting.get(message.id);
    if (!waiting) return;
    this.#waiting.delete(message.id);
    const receipt = message.receipt as Receipt | undefined;
    this.#options.changed(waiting.entry, receipt);
    for (const { resolve, reject } of waiting.settle) {
      if (receipt) resolve(receipt);
      else reject(new ProblemError(message.problem as Problem));
    }
  }
}

function waitMsOf({ retryAfter }: Partial<Problem> = {}): number {
  return typeof retryAfter === 'number' ? retryAfter * 1000 : BUSY_WAIT_MS;
}
