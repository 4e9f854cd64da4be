import { createHash, randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, rmSync } from 'node:fs';
import { open, readdir, rename, rm } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import type { Readable } from 'node:stream';
import { problemError } from '@uproar/protocol';
import type { Log } from '../log/log.js';
import { contentPath } from './content-path.js';
import type { Reads } from './reads.js';

export { FILES } from '../state/blob-table.js';

/** How files are taken and kept. */
export interface ContentLimits {
  /** The largest content, in bytes. */
  sizeBytes: number;
  /** How long a content that no document has any more is kept, in milliseconds: as long a deletion can be undone. */
  unusedMs: number;
  /** Uploads at a time. */
  uploads: number;
  /** An upload without data is aborted after this time, in milliseconds. */
  idleMs: number;
}

/** 1 GiB, a day, 50 at a time, half a minute. */
export const DEFAULT_CONTENT_LIMITS: ContentLimits = {
  sizeBytes: 1024 ** 3,
  unusedMs: 86_400_000,
  uploads: 50,
  idleMs: 30_000,
};

/** A content that has been received. */
export interface Received {
  sha256: string;
  sizeBytes: number;
}

const SWEEP_MS = 60_000;
const SWEPT_AT_ONCE = 100;

const TOTAL = 'SELECT COUNT(*) AS contents, COALESCE(SUM(size), 0) AS sizeBytes FROM contents';
const UNUSED = 'SELECT sha256, received FROM contents WHERE uses = 0 AND unused <= ? ORDER BY unused LIMIT ?';
const UNUSED_ONE = 'SELECT sha256, received FROM contents WHERE uses = 0 AND sha256 = ?';

/** A content that no document has, and the place in the log at which it was received. */
interface Unused {
  sha256: string;
  received: number;
}

/** What the contents of a store are kept with. */
export interface ContentsParts {
  reads: Reads;
  log: Log;
  /** The data directory. */
  directory: string;
  /** Whether this process removes contents that no document has. */
  isInCharge: () => boolean;
  limits?: Partial<ContentLimits> | undefined;
}

/** The contents of files: each once, under its hash, in a folder of the data directory. */
export class Contents {
  readonly limits: ContentLimits;
  readonly #directory: string;
  readonly #reads: Reads;
  readonly #log: Log;
  readonly #timer: NodeJS.Timeout;
  #uploads = 0;
  #closed = false;
  /** Contents that have been received for a description that is not committed yet, and for how many. */
  readonly #awaited = new Map<string, number>();

  constructor(parts: ContentsParts) {
    const { reads, log, directory, isInCharge, limits } = parts;
    this.#reads = reads;
    this.#log = log;
    this.#directory = join(directory, 'files');
    this.limits = { ...DEFAULT_CONTENT_LIMITS, ...limits };
    // Uploads that were interrupted when a process ended are useless.
    rmSync(join(this.#directory, 'incoming'), { recursive: true, force: true });
    log.onBatch(({ outcomes }) => {
      for (const outcome of outcomes) {
        if ('removed' in outcome && Array.isArray(outcome.removed))
          for (const sha256 of outcome.removed) this.#delete(sha256);
      }
    });
    this.#timer = setInterval(() => {
      // A full disk: the next turn tries again.
      if (isInCharge()) this.sweep(Date.now()).catch(() => undefined);
    }, SWEEP_MS).unref();
  }

  close(): void {
    this.#closed = true;
    clearInterval(this.#timer);
  }

  /** Where a content lies. The name must be a hash. */
  path(sha256: string): string {
    return contentPath(this.#directory, sha256);
  }

  /** How many contents there are, and how large they are together. */
  get total(): { contents: number; sizeBytes: number } {
    return this.#reads.statement<[], { contents: number; sizeBytes: number }>(TOTAL).get()!;
  }

  /**
   * Receives a content from a stream to the disk. It stays while a document uses it, and for some time after. After its
   * description is committed or refused, {@link settle} must be called.
   *
   * @param announced the number of bytes that were announced, if any
   * @throws {ProblemError} `too-large`, `limit-reached`, or `bad-request` when it was aborted; then nothing of it is
   *   left
   */
  async receive(stream: Readable, announced: number | undefined): Promise<Received> {
    const { sizeBytes: most, uploads } = this.limits;
    if (announced !== undefined && announced > most) throw tooLarge(most);
    if (this.#uploads >= uploads) {
      throw problemError('limit-reached', `${uploads} uploads are in progress already. Try again in a moment.`);
    }
    const incoming = join(this.#directory, 'incoming', randomBytes(12).toString('hex'));
    this.#uploads++;
    try {
      const made = mkdirSync(dirname(incoming), { recursive: true, mode: 0o700 });
      if (made === this.#directory) await syncFolder(dirname(made));
      const received = await this.#write(stream, incoming);
      if (announced !== undefined && received.sizeBytes !== announced) {
        throw problemError('bad-request', `${announced} bytes were announced, but ${received.sizeBytes} arrived.`);
      }
      this.#awaited.set(received.sha256, (this.#awaited.get(received.sha256) ?? 0) + 1);
      try {
        await this.#place(incoming, received);
      } catch (error) {
        await this.settle(received.sha256, true);
        throw error;
      }
      return received;
    } finally {
      this.#uploads--;
      await rm(incoming, { force: true });
    }
  }

  /** Whether a content is on this node. */
  has(sha256: string): boolean {
    return existsSync(this.path(sha256));
  }

  /** The contents that have a record, but are not on this node. */
  missing(): string[] {
    const all = this.#reads.values<[], string>('SELECT sha256 FROM contents').all();
    return all.filter((sha256) => !this.has(sha256));
  }

  /**
   * Takes a content that has a record from another node.
   *
   * @throws {Error} when it is not the content with that hash; then nothing of it is left
   */
  async adopt(stream: Readable, sha256: string): Promise<void> {
    const incoming = join(this.#directory, 'incoming', randomBytes(12).toString('hex'));
    mkdirSync(dirname(incoming), { recursive: true, mode: 0o700 });
    try {
      const received = await this.#write(stream, incoming);
      if (received.sha256 !== sha256) throw new Error(`The content ${sha256} came as ${received.sha256}.`);
      await this.#moveTo(incoming, sha256);
    } finally {
      await rm(incoming, { force: true });
    }
  }

  /**
   * Records the outcome of a description whose content was received. A refused content is removed at once, unless a
   * document uses it or another client has just sent the same: its sender must not be able to store it.
   */
  async settle(sha256: string, refused: boolean): Promise<void> {
    const others = (this.#awaited.get(sha256) ?? 1) - 1;
    if (others > 0) this.#awaited.set(sha256, others);
    else this.#awaited.delete(sha256);
    if (!refused) return;
    const unused = this.#reads.statement<[string], Unused>(UNUSED_ONE).all(sha256);
    // If that fails, the content is removed later, like others that no document has.
    await this.#remove(unused).catch(() => undefined);
  }

  /** Removes contents that no document has had for long enough. Resolves with their number. */
  async sweep(nowMs: number): Promise<number> {
    const old = this.#reads
      .statement<[number, number], Unused>(UNUSED)
      .all(nowMs - this.limits.unusedMs, SWEPT_AT_ONCE);
    return this.#remove(old);
  }

  /**
   * Deletes contents without a record. A process leaves one if it ends after it has removed the record and before it has
   * deleted the file. Resolves with their number.
   */
  async removeOrphans(): Promise<number> {
    let removed = 0;
    for (const folder of await readdir(this.#directory).catch(() => [])) {
      if (!/^[0-9a-f]{2}$/.test(folder)) continue;
      for (const sha256 of await readdir(join(this.#directory, folder)).catch(() => [])) {
        if (this.#closed) return removed;
        const isKnown = this.#reads.values<[string], number>('SELECT 1 FROM contents WHERE sha256 = ?').get(sha256);
        if (isKnown || !/^[0-9a-f]{64}$/.test(sha256)) continue;
        this.#delete(sha256);
        removed++;
      }
    }
    return removed;
  }

  async #remove(unused: readonly Unused[]): Promise<number> {
    const blobs = unused.filter(({ sha256 }) => !this.#awaited.has(sha256));
    if (blobs.length === 0) return 0;
    const { removed } = await this.#log.propose({ kind: 'blobs-removed', timeMs: Date.now(), blobs });
    return removed.length;
  }

  /** Deletes a content whose record was removed, unless it is being received again. */
  #delete(sha256: string): void {
    if (!this.#awaited.has(sha256)) rmSync(this.path(sha256), { force: true });
  }

  /** The rest of a refused body stays unread, so that the client can still read the answer. */
  async #write(stream: Readable, path: string): Promise<Received> {
    const hash = createHash('sha256');
    let sizeBytes = 0;
    const file = await open(path, 'wx', 0o600);
    try {
      for await (const chunk of this.#impatiently(stream)) {
        sizeBytes += chunk.length;
        if (sizeBytes > this.limits.sizeBytes) throw tooLarge(this.limits.sizeBytes);
        hash.update(chunk);
        await file.write(chunk);
      }
      await file.sync();
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException;
      if (code === 'ENOSPC') throw problemError('storage-failed', 'Nothing of the file was kept: the disk is full.');
      if (code === 'ECONNRESET' || code === 'ERR_STREAM_PREMATURE_CLOSE') {
        throw problemError('bad-request', 'The upload was aborted before it was complete.');
      }
      throw error;
    } finally {
      await file.close();
    }
    return { sha256: hash.digest('hex'), sizeBytes };
  }

  /** Passes on what comes, and gives up when nothing does. */
  async *#impatiently(stream: Readable): AsyncGenerator<Buffer> {
    const { idleMs } = this.limits;
    const chunks = stream.iterator({ destroyOnReturn: false }) as AsyncIterator<Buffer>;
    for (;;) {
      let timer: NodeJS.Timeout | undefined;
      const idle = new Promise<never>((_, reject) => {
        const reason = `No data arrived for ${idleMs / 1000} s; the upload was aborted.`;
        timer = setTimeout(() => reject(problemError('bad-request', reason)), idleMs);
      });
      const next = chunks.next();
      // Its promise may settle, either way, when nothing waits for it any more.
      next.catch(() => undefined);
      const { done, value } = await Promise.race([next, idle]).finally(() => clearTimeout(timer));
      if (done) return;
      yield value;
    }
  }

  /** Moves a received content to its hash. It is recorded first, so that no unknown file can be left there. */
  async #place(incoming: string, { sha256, sizeBytes }: Received): Promise<void> {
    await this.#log.propose({ kind: 'blob-received', timeMs: Date.now(), sha256, sizeBytes });
    await this.#moveTo(incoming, sha256);
  }

  async #moveTo(incoming: string, sha256: string): Promise<void> {
    const place = this.path(sha256);
    mkdirSync(dirname(place), { recursive: true, mode: 0o700 });
    if (!existsSync(place)) await rename(incoming, place);
    // A name is on disk once the folder that it stands in is, and so with the name of that folder.
    for (const folder of [dirname(place), this.#directory]) await syncFolder(folder);
  }
}

async function syncFolder(path: string): Promise<void> {
  const folder = await open(path, 'r');
  await folder.sync();
  await folder.close();
}

function tooLarge(most: number): Error {
  return problemError('too-large', `A file has at most ${most.toLocaleString('en-GB')} bytes here.`);
}
