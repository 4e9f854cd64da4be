import { closeSync, fdatasync, fdatasyncSync, fstatSync, openSync } from 'node:fs';

/** The write-ahead log of a store: what is in it is on disk once it was synced. */
export class WriteAheadFile {
  readonly #descriptor: number;

  /** @param file the SQLite file; its write-ahead log must exist */
  constructor(file: string) {
    this.#descriptor = openSync(`${file}-wal`, 'r');
  }

  get sizeBytes(): number {
    return fstatSync(this.#descriptor).size;
  }

  /** Resolves once everything written so far is on disk. Other work goes on meanwhile. */
  sync(done: (error: Error | null) => void): void {
    fdatasync(this.#descriptor, done);
  }

  /** As {@link sync}, while nothing else is to be done: at the start, and at the end. */
  syncNow(): void {
    fdatasyncSync(this.#descriptor);
  }

  close(): void {
    closeSync(this.#descriptor);
  }
}
