import { createHash, randomBytes } from 'node:crypto';
import { createReadStream, readdirSync, rmSync, statSync, type ReadStream } from 'node:fs';
import { join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import Database from 'better-sqlite3';
import { packContents } from './packed-contents.js';
import type { Contents } from './contents.js';

/** How far a backup is. */
export interface BackupInfo {
  id: string;
  state: 'copying' | 'hashing' | 'ready' | 'failed';
  /** From 0 to 1. */
  progress: number;
  /** Once it is ready: the state of the store that it holds, its size, and its SHA-256 in hexadecimal digits. */
  seq?: number;
  sizeBytes?: number;
  sha256?: string;
  /** Why it failed. */
  reason?: string;
}

/** Pages copied at a time, so that others are served in between. */
const PAGES_AT_ONCE = 400;

/** A backup that was neither downloaded nor removed is removed after this time, in milliseconds. */
const KEPT_MS = 3_600_000;

/** Backups that may be there at a time. */
const MAX_BACKUPS = 2;

/**
 * Makes backups of a store while it is written to: each a copy of the SQLite file at one state, with the contents of its files in it,
 * which lies in the data directory until it has been fetched.
 */
export class Backups {
  readonly #database: Database.Database;
  readonly #directory: string;
  readonly #contents: Contents;
  readonly #byId = new Map<string, { info: BackupInfo; timer: NodeJS.Timeout | undefined }>();
  #closed = false;

  constructor(database: Database.Database, directory: string, contents: Contents) {
    this.#database = database;
    this.#contents = contents;
    this.#directory = directory;
    // Left by a process that ended before they were fetched.
    for (const name of readdirSync(directory)) {
      if (/^backup-[\w-]+\.sqlite(-\w+)?$/.test(name)) rmSync(join(directory, name), { force: true });
    }
  }

  /** Begins a backup. Undefined when there are too many already. */
  start(): BackupInfo | undefined {
    if (this.#byId.size >= MAX_BACKUPS) return undefined;
    const info: BackupInfo = { id: randomBytes(9).toString('base64url'), state: 'copying', progress: 0 };
    this.#byId.set(info.id, { info, timer: undefined });
    void this.#make(info);
    return info;
  }

  get(id: string): BackupInfo | undefined {
    return this.#byId.get(id)?.info;
  }

  /** The file of a backup that is ready. */
  open(id: string): ReadStream {
    return createReadStream(this.#file(id));
  }

  /** Removes a backup. Returns whether there was one. */
  remove(id: string): boolean {
    const found = this.#byId.get(id);
    if (!found) return false;
    clearTimeout(found.timer);
    this.#byId.delete(id);
    this.#removeFiles(id);
    return true;
  }

  close(): void {
    this.#closed = true;
    for (const id of [...this.#byId.keys()]) this.remove(id);
  }

  async #make(info: BackupInfo): Promise<void> {
    const file = this.#file(info.id);
    try {
      await this.#database.backup(file, {
        progress: ({ totalPages, remainingPages }) => {
          if (this.#closed || !this.#byId.has(info.id)) throw new Error('The backup was removed.');
          if (totalPages > 0) info.progress = 1 - remainingPages / totalPages;
          return PAGES_AT_ONCE;
        },
      });
      if (this.#closed) throw new Error('The store was closed.');
      await packContents(file, this.#contents, () => this.#closed || !this.#byId.has(info.id));
      const seq = makeSelfContained(file);
      info.state = 'hashing';
      const hash = createHash('sha256');
      await pipeline(createReadStream(file), hash);
      Object.assign(info, {
        state: 'ready',
        progress: 1,
        seq,
        sizeBytes: statSync(file).size,
        sha256: hash.digest('hex'),
      });
    } catch (error) {
      Object.assign(info, { state: 'failed', reason: (error as Error).message });
      this.#removeFiles(info.id);
    }
    const entry = this.#byId.get(info.id);
    if (entry) entry.timer = setTimeout(() => this.remove(info.id), KEPT_MS).unref();
    else this.#removeFiles(info.id);
  }

  #file(id: string): string {
    return join(this.#directory, `backup-${id}.sqlite`);
  }

  #removeFiles(id: string): void {
    for (const ending of ['', '-wal', '-shm', '-journal']) rmSync(this.#file(id) + ending, { force: true });
  }
}

/** Makes the copy one file that needs no other beside it. Returns the seq it holds. */
function makeSelfContained(file: string): number {
  const copy = new Database(file);
  try {
    copy.pragma('journal_mode = DELETE');
    return copy.prepare<[], number>('SELECT COALESCE(MAX(seq), 0) FROM commits').pluck().get()!;
  } finally {
    copy.close();
  }
}
