import { randomBytes } from 'node:crypto';
import { createReadStream, readdirSync, rmSync, type ReadStream } from 'node:fs';
import { join } from 'node:path';
import type { Author } from '@uproar/core';
import type { Log } from '../log/log.js';
import type { BackupMessage } from './backup-worker.js';
import { databaseFile } from './open-database.js';
import { StoreThread } from './store-thread.js';

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

/** A backup that was neither downloaded nor removed is removed after this time, in milliseconds. */
const KEPT_MS = 3_600_000;

/** Backups that may be there at a time. */
const MAX_BACKUPS = 2;

interface Backup {
  info: BackupInfo;
  thread: StoreThread<BackupMessage> | undefined;
  timer: NodeJS.Timeout | undefined;
}

/**
 * Makes backups of a store while it is written to, in a thread of its own: each a copy of the SQLite file at one state,
 * with the contents of its files in it, which lies in the data directory until it has been fetched.
 */
export class Backups {
  readonly #log: Log;
  readonly #directory: string;
  readonly #byId = new Map<string, Backup>();
  /** Resolve when the threads of removed backups have ended. */
  readonly #ending = new Set<Promise<unknown>>();

  /** Called when a backup is ready. */
  onReady: (backup: BackupInfo & { author: Author }) => void = () => undefined;

  constructor(log: Log, directory: string) {
    this.#log = log;
    this.#directory = directory;
    // Left by a process that ended before they were fetched.
    for (const name of readdirSync(directory)) {
      if (/^backup-[\w-]+\.sqlite(-\w+)?$/.test(name)) rmSync(join(directory, name), { force: true });
    }
  }

  /** Begins a backup for somebody. Undefined when there are too many already. */
  start(author: Author): BackupInfo | undefined {
    if (this.#byId.size >= MAX_BACKUPS) return undefined;
    const info: BackupInfo = { id: randomBytes(9).toString('base64url'), state: 'copying', progress: 0 };
    const backup: Backup = { info, thread: undefined, timer: undefined };
    this.#byId.set(info.id, backup);
    void this.#make(backup, author);
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
    const removeFiles = () => this.#removeFiles(id);
    if (!found.thread) removeFiles();
    else {
      const ending: Promise<unknown> = found.thread.end().then(removeFiles);
      this.#ending.add(ending);
      void ending.then(() => this.#ending.delete(ending));
    }
    return true;
  }

  /** Removes all backups. Resolves when their threads have ended. */
  async close(): Promise<void> {
    for (const id of [...this.#byId.keys()]) this.remove(id);
    await Promise.all(this.#ending);
  }

  async #make(backup: Backup, author: Author): Promise<void> {
    const { info } = backup;
    try {
      await this.#copy(backup);
      this.onReady({ ...info, author });
    } catch (error) {
      Object.assign(info, { state: 'failed', reason: (error as Error).message });
      this.#removeFiles(info.id);
    }
    backup.thread = undefined;
    if (this.#byId.has(info.id)) backup.timer = setTimeout(() => this.remove(info.id), KEPT_MS).unref();
  }

  /** Resolves when the copy is ready. It begins at a state that is on disk. */
  #copy(backup: Backup): Promise<void> {
    const { info } = backup;
    return new Promise((resolve, reject) => {
      const data = { file: databaseFile(this.#directory), copy: this.#file(info.id), directory: this.#directory };
      const thread = new StoreThread<BackupMessage>('./backup-worker.js', data);
      backup.thread = thread;
      let began: () => void = () => undefined;
      const fail = (error: Error) => {
        began();
        reject(error);
      };
      const begin = () =>
        new Promise<void>((done) => {
          began = done;
          if (this.#byId.has(info.id)) thread.send('begin');
          else done();
        });
      thread.listen((message) => {
        if ('loaded' in message) this.#log.pause(begin).catch(fail);
        else if ('began' in message) began();
        else if ('copied' in message) info.progress = message.copied;
        else if ('hashing' in message) info.state = 'hashing';
        else {
          Object.assign(info, { state: 'ready', progress: 1, ...message.ready });
          resolve();
        }
      }, fail);
    });
  }

  #file(id: string): string {
    return join(this.#directory, `backup-${id}.sqlite`);
  }

  #removeFiles(id: string): void {
    for (const ending of ['', '-wal', '-shm', '-journal']) rmSync(this.#file(id) + ending, { force: true });
  }
}
