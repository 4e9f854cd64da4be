import type { StorageHealth } from './storage-health.js';
import { StoreThread } from './store-thread.js';
import type { WriteAheadFile } from './write-ahead-file.js';

/** 16 MiB: the write-ahead log begins anew when it has this many bytes. */
export const DEFAULT_WRITE_AHEAD_BYTES = 16 * 1024 * 1024;

/** The part of this size by which the write-ahead log grows before it is copied into the file. */
const COPIED_PART = 0.25;

/** How often the size is looked at, in milliseconds. */
const LOOK_MS = 50;

/** What checkpoints work with. */
export interface CheckpointOptions {
  file: string;
  log: WriteAheadFile;
  health: StorageHealth;
  /** The write-ahead log begins anew when it has this many bytes. */
  sizeBytes: number;
  /** Runs `work` while writers wait and readers hold no snapshot. */
  pause(work: () => Promise<void>): Promise<void>;
}

/** Moves the write-ahead log into the SQLite file again and again, in a thread of its own. */
export class Checkpoints {
  readonly #options: CheckpointOptions;
  readonly #timer: NodeJS.Timeout;
  #thread: StoreThread<Answer> | undefined;
  /** Resolves when all requests to the thread so far are done. */
  #asked: Promise<unknown> = Promise.resolve();
  #closed = false;
  #copiedBytes = 0;
  #running = false;

  constructor(options: CheckpointOptions) {
    this.#options = options;
    this.#timer = setInterval(() => void this.look(), LOOK_MS).unref();
  }

  /** Checks the size of the write-ahead log, and copies or resets it if it is due. */
  async look(): Promise<void> {
    if (this.#running) return;
    const size = this.#options.log.sizeBytes;
    if (size < this.#copiedBytes) this.#copiedBytes = 0;
    if (size < this.#copiedBytes + this.#stepBytes) return;
    this.#running = true;
    await this.#unlessDiskFails(async () => {
      const { leftBytes } = await this.#ask('copy');
      this.#copiedBytes = size;
      return size > this.#options.sizeBytes && leftBytes <= this.#stepBytes && this.#reset();
    });
    this.#running = false;
  }

  /** Lets the write-ahead log begin anew. Resolves with false if a long read or the disk prevented it. */
  reset(): Promise<boolean> {
    return this.#unlessDiskFails(async () => {
      // Copies most of it while others write, so that they wait only for the rest.
      await this.#ask('copy');
      return this.#reset();
    });
  }

  /**
   * Writes all that is stored anew, so that nothing is left of what was deleted, neither in free pages nor in the write-ahead
   * log. Writers wait meanwhile; reads go on. Resolves with false if a long read or the disk prevented it.
   */
  rewrite(): Promise<boolean> {
    return this.#unlessDiskFails(async () => {
      let busy = true;
      await this.#options.pause(async () => {
        ({ busy } = await this.#ask('rewrite'));
      });
      this.#copiedBytes = 0;
      return !busy;
    });
  }

  /** Resolves with false if the disk is full or fails. The next look tries again, and writes report it. */
  async #unlessDiskFails(work: () => Promise<boolean>): Promise<boolean> {
    try {
      return await work();
    } catch (error) {
      this.#options.health.note(error);
      return false;
    }
  }

  /** By how many bytes the write-ahead log grows before it is copied into the file. */
  get #stepBytes(): number {
    return COPIED_PART * this.#options.sizeBytes;
  }

  async #reset(): Promise<boolean> {
    let busy = true;
    await this.#options.pause(async () => {
      ({ busy } = await this.#ask('reset'));
    });
    if (!busy) this.#copiedBytes = 0;
    return !busy;
  }

  /** Resolves when the thread has ended. */
  async close(): Promise<void> {
    this.#closed = true;
    clearInterval(this.#timer);
    await this.#thread?.end();
  }

  /** Sends a request to the thread, after the earlier ones. */
  #ask(what: 'copy' | 'reset' | 'rewrite'): Promise<Done> {
    const answer = this.#asked.then(() => this.#askNow(what));
    this.#asked = answer.catch(() => undefined);
    return answer;
  }

  async #askNow(what: 'copy' | 'reset' | 'rewrite'): Promise<Done> {
    if (this.#closed) return { busy: true, leftBytes: 0 };
    this.#thread ??= new StoreThread('./checkpoint-worker.js', { file: this.#options.file });
    const answer = await this.#thread.ask(what).catch((error: unknown) => {
      this.#thread = undefined;
      throw error;
    });
    if ('error' in answer) throw Object.assign(new Error(answer.error.message), { code: answer.error.code });
    return answer;
  }
}

/** Whether a read prevented it, and the bytes that are not in the file yet. */
interface Done {
  busy: boolean;
  leftBytes: number;
}

type Answer = Done | { error: { message: string; code?: string | undefined } };
