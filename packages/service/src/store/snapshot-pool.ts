import { problemError } from '@uproar/protocol';
import type { Snapshot } from './snapshot.js';

/** Long reads that may run at the same time: in all, and for one holder. */
const MAX_SNAPSHOTS = 16;
const MAX_FOR_ONE = 4;

/** A read without progress is aborted after this time: if others wait, and in any case. */
const STALLED_MS = { whileOthersWait: 1000, always: 60_000 };

/** How often it is looked whether a read has stalled. */
const LOOK_MS = 200;

/** How long a read waits in the queue by default, in milliseconds. */
const WAIT_MS = 10_000;

interface Waiting {
  holder: string;
  end(error: Error): void;
  begin(snapshot: Snapshot): void;
}

/**
 * Connections for long reads, each with a view of the store that stays as it was when the read began. Every holder gets a share, a
 * read waits for its turn only so long, and a view is taken back from a reader that has stalled.
 */
export class SnapshotPool {
  readonly #idle: Snapshot[] = [];
  /** The running reads, by purpose. */
  readonly #active = new Map<Snapshot, string>();
  readonly #waiting = new Set<Waiting>();
  #timer: NodeJS.Timeout | undefined;
  #opened = 0;
  #paused = false;
  #closed = false;

  constructor(
    readonly open: () => Snapshot,
    readonly waitMs = WAIT_MS,
  ) {}

  /** How many reads run, and how many wait. */
  get load(): { running: number; waiting: number } {
    return { running: this.#active.size, waiting: this.#waiting.size };
  }

  /**
   * Takes a connection, when it is its holder's turn.
   *
   * @throws {ProblemError} `overloaded` when that takes too long
   */
  take(holder = ''): Promise<Snapshot> {
    if (this.#closed) return Promise.reject(stopping());
    if (!this.#paused && this.#mayTake(holder)) {
      const snapshot = this.#next();
      if (snapshot) return Promise.resolve(this.#activate(snapshot, holder));
    }
    return new Promise((resolve, reject) => {
      const waiting: Waiting = {
        holder,
        end: (error) => {
          clearTimeout(timer);
          this.#waiting.delete(waiting);
          reject(error);
        },
        begin: (snapshot) => {
          clearTimeout(timer);
          this.#waiting.delete(waiting);
          resolve(this.#activate(snapshot, holder));
        },
      };
      const timer = setTimeout(() => {
        waiting.end(
          problemError(
            'overloaded',
            `Too many long reads are in progress; this one waited ${this.waitMs / 1000} s. Try again, or create an index.`,
          ),
        );
      }, this.waitMs);
      this.#waiting.add(waiting);
      this.#watch();
    });
  }

  /** Gives a connection back. */
  release(snapshot: Snapshot): void {
    // An aborted one has been replaced.
    if (!this.#active.delete(snapshot)) return;
    snapshot.end();
    if (this.#closed) snapshot.close();
    else this.#idle.push(snapshot);
    this.#serve();
  }

  /** As {@link Reader.interrupt}. */
  async interrupt(graceMs: number, whenNoneRuns: () => Promise<unknown>): Promise<void> {
    if (this.#paused) return;
    this.#paused = true;
    while (this.#active.size > 0 && !this.#closed) {
      for (const snapshot of [...this.#active.keys()]) if (snapshot.ageMs > graceMs) this.#abort(snapshot);
      if (this.#active.size === 0) break;
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
    try {
      if (!this.#closed) await whenNoneRuns();
    } finally {
      this.#paused = false;
      this.#serve();
    }
  }

  close(): void {
    this.#closed = true;
    clearInterval(this.#timer);
    for (const snapshot of this.#idle.splice(0)) snapshot.close();
    for (const snapshot of [...this.#active.keys()]) this.#abort(snapshot);
    for (const waiting of [...this.#waiting]) waiting.end(stopping());
  }

  #mayTake(holder: string): boolean {
    let running = 0;
    for (const other of this.#active.values()) if (other === holder) running++;
    return running < MAX_FOR_ONE;
  }

  #next(): Snapshot | undefined {
    const idle = this.#idle.pop();
    if (idle) return idle;
    if (this.#opened === MAX_SNAPSHOTS) return undefined;
    this.#opened++;
    return this.open();
  }

  #activate(snapshot: Snapshot, holder: string): Snapshot {
    this.#active.set(snapshot, holder);
    this.#watch();
    return snapshot;
  }

  /** Begins the reads whose turn it is, the longest waiting first. */
  #serve(): void {
    if (this.#paused || this.#closed) return;
    for (const waiting of this.#waiting) {
      if (!this.#mayTake(waiting.holder)) continue;
      const snapshot = this.#next();
      if (!snapshot) return;
      waiting.begin(snapshot);
    }
  }

  /** Gives up a view at once, with its connection: its reader may never look again. */
  #abort(snapshot: Snapshot): void {
    snapshot.abort();
    this.#active.delete(snapshot);
    this.#opened--;
  }

  #watch(): void {
    this.#timer ??= setInterval(() => this.#look(), LOOK_MS).unref();
  }

  #look(): void {
    const limit = this.#waiting.size > 0 ? STALLED_MS.whileOthersWait : STALLED_MS.always;
    for (const snapshot of [...this.#active.keys()]) {
      if (snapshot.stalledMs <= limit) continue;
      this.#abort(snapshot);
      this.#serve();
    }
    if (this.#active.size > 0 || this.#waiting.size > 0) return;
    clearInterval(this.#timer);
    this.#timer = undefined;
  }
}

function stopping(): Error {
  return problemError('stopping', 'The service is stopping. Try again in a moment.');
}
