import { statfsSync, statSync } from 'node:fs';
import type { Log } from '../log/log.js';
import type { Checkpoints } from './checkpoints.js';
import type { Reader } from './reader.js';
import type { Reads } from './reads.js';

/** How long reads may continue before the store is rewritten, in milliseconds. */
const READ_GRACE_MS = 10_000;

/** The free disk space that it takes, beside the size of the store. */
const FREE_FACTOR = 2;

const NEWEST = 'SELECT MAX(place) FROM erasures WHERE outcomes_upto IS NULL';
const DONE = "SELECT CAST(value AS INTEGER) FROM local WHERE name = 'rewritten'";
const NOTE_DONE = `
  INSERT INTO local (name, value) VALUES ('rewritten', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`;

/** What rewriting works with. */
export interface RewriteParts {
  file: string;
  reads: Reads;
  log: Log;
  reader: Reader;
  checkpoints: Checkpoints;
}

/** Writes the store of this node anew after erasures, so that its files hold nothing of what was erased. */
export class Rewrites {
  readonly #parts: RewriteParts;
  #running: Promise<void> | undefined;
  #closed = false;
  /** Why it could not be done the last time. */
  reason: string | undefined;

  constructor(parts: RewriteParts) {
    this.#parts = parts;
  }

  /** Up to which place in the log erasures have left nothing in the files of this node. */
  get place(): number {
    return this.#parts.reads.values<[], number>(DONE).get() ?? 0;
  }

  /** Rewrites the store if an erasure has ended since the last time. Never rejects; {@link reason} says why it failed. */
  run(): Promise<void> {
    this.#running ??= this.#run()
      .catch((error: unknown) => void (this.reason = (error as Error).message))
      .finally(() => (this.#running = undefined));
    return this.#running;
  }

  close(): void {
    this.#closed = true;
  }

  async #run(): Promise<void> {
    const { file, reads, log, reader, checkpoints } = this.#parts;
    const newest = reads.values<[], number | null>(NEWEST).get() ?? 0;
    if (newest <= this.place || this.#closed) return;
    const { bavail, bsize } = statfsSync(file);
    const neededBytes = FREE_FACTOR * statSync(file).size;
    if (bavail * bsize < neededBytes) {
      this.reason = `Rewriting the store takes ${neededBytes} bytes of free disk space.`;
      return;
    }
    let done = false;
    await reader.interrupt(READ_GRACE_MS, async () => {
      done = !this.#closed && (await checkpoints.rewrite());
    });
    this.reason = done ? undefined : 'A long read, or the disk, prevented it.';
    if (done) await log.writeLocally((database) => database.prepare(NOTE_DONE).run(String(newest)));
  }
}
