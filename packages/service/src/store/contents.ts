import { createHash, randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, rmSync } from 'node:fs';
import { open, rename, rm } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import type { Readable } from 'node:stream';
import type Database from 'better-sqlite3';
import type { Document, Refusal, Write } from '@uproar/core';
import { problemError } from '@uproar/protocol';

/** The collection whose documents have content. */
export const FILES = 'files';

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

/** The contents of files: each once, under its hash, in a folder of the data directory. */
export class Contents {
  readonly limits: ContentLimits;
  readonly #directory: string;
  readonly #database: Database.Database;
  readonly #timer: NodeJS.Timeout;
  #uploads = 0;
  /** Contents that have been received for a description that is not committed yet, and for how many. */
  readonly #awaited = new Map<string, number>();

  constructor(database: Database.Database, directory: string, limits: Partial<ContentLimits> = {}) {
    this.#database = database;
    this.#directory = join(directory, 'files');
    this.limits = { ...DEFAULT_CONTENT_LIMITS, ...limits };
    // Uploads that were interrupted when a process ended are useless.
    rmSync(join(this.#directory, 'incoming'), { recursive: true, force: true });
    this.#timer = setInterval(() => this.sweep(Date.now()), SWEEP_MS).unref();
  }

  close(): void {
    clearInterval(this.#timer);
  }

  /** Where a content lies. The name must be a hash. */
  path(sha256: string): string {
    return contentPath(this.#directory, sha256);
  }

  /** How many contents there are, and how large they are together. */
  get total(): { contents: number; sizeBytes: number } {
    return this.#database
      .prepare<[], { contents: number; sizeBytes: number }>(
        'SELECT COUNT(*) AS contents, COALESCE(SUM(size), 0) AS sizeBytes FROM contents',
      )
      .get()!;
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
        this.settle(received.sha256, true);
        throw error;
      }
      return received;
    } finally {
      this.#uploads--;
      await rm(incoming, { force: true });
    }
  }

  /**
   * Records the outcome of a description whose content was received. A refused content is removed at once, unless a
   * document uses it or another client has just sent the same: its sender must not be able to store it.
   */
  settle(sha256: string, refused: boolean): void {
    const others = (this.#awaited.get(sha256) ?? 1) - 1;
    if (others > 0) this.#awaited.set(sha256, others);
    else this.#awaited.delete(sha256);
    if (!refused) return;
    const row = this.#database.prepare<[string], { uses: number }>('SELECT uses FROM contents WHERE sha256 = ?');
    if (row.get(sha256)?.uses === 0) this.#remove(sha256);
  }

  /** Updates the use counts of contents for a change of a file. Must run inside the transaction of the change. */
  count(before: Document | undefined, after: Document | undefined, timeMs: number): void {
    const [was, is] = [hashOf(before), hashOf(after)];
    if (was === is) return;
    if (was !== undefined) {
      this.#database
        .prepare('UPDATE contents SET uses = uses - 1, unused = CASE WHEN uses = 1 THEN ? END WHERE sha256 = ?')
        .run(timeMs, was);
    }
    if (is !== undefined)
      this.#database.prepare('UPDATE contents SET uses = uses + 1, unused = NULL WHERE sha256 = ?').run(is);
  }

  /**
   * The reason why a write to the files is refused: only an upload sets hash and size, so no caller gets a content by
   * naming its hash.
   *
   * @param trusted whether the writer may restore a content that still exists
   */
  findFault(
    write: Write,
    before: Document | undefined,
    after: Document | undefined,
    trusted: boolean,
  ): Refusal | undefined {
    if (!after || ('content' in write && write.content === hashOf(after))) return undefined;
    const [was, is] = [before?.data ?? {}, after.data];
    if (is.sha256 === was.sha256 && is.size === was.size) return undefined;
    if (trusted && this.#has(hashOf(after), is.size)) return undefined;
    const { collection, id } = write;
    const detail = `The size and the hash of ${collection}/${id} are computed from its content. Leave "size" and "sha256" unchanged, and upload new content to /v1/files/${id}/content.`;
    return { kind: 'bad-document', collection, id, currentVersion: before?.version ?? 0, pointer: '/sha256', detail };
  }

  /** Removes contents that no document has had for long enough. Returns how many. */
  sweep(nowMs: number): number {
    const old = this.#database
      .prepare<[number, number], { sha256: string }>(
        'SELECT sha256 FROM contents WHERE uses = 0 AND unused <= ? LIMIT ?',
      )
      .all(nowMs - this.limits.unusedMs, SWEPT_AT_ONCE);
    for (const { sha256 } of old) this.#remove(sha256);
    return old.length;
  }

  #remove(sha256: string): void {
    if (this.#awaited.has(sha256)) return;
    rmSync(this.path(sha256), { force: true });
    this.#database.prepare('DELETE FROM contents WHERE sha256 = ? AND uses = 0').run(sha256);
  }

  #has(sha256: string | undefined, size: unknown): boolean {
    if (sha256 === undefined) return false;
    const row = this.#database
      .prepare<[string], { size: number }>('SELECT size FROM contents WHERE sha256 = ?')
      .get(sha256);
    return row?.size === size && existsSync(this.path(sha256));
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
    const now = Date.now();
    this.#database
      .prepare(
        'INSERT INTO contents (sha256, size, uses, unused) VALUES (?, ?, 0, ?) ' +
          'ON CONFLICT (sha256) DO UPDATE SET unused = CASE WHEN uses = 0 THEN ? END',
      )
      .run(sha256, sizeBytes, now, now);
    const place = this.path(sha256);
    mkdirSync(dirname(place), { recursive: true, mode: 0o700 });
    if (!existsSync(place)) await rename(incoming, place);
    // A name is on disk once the folder that it stands in is, and so with the name of that folder.
    for (const folder of [dirname(place), this.#directory]) await syncFolder(folder);
  }
}

/** Where a content lies within a folder of contents. */
export function contentPath(directory: string, sha256: string): string {
  if (!/^[0-9a-f]{64}$/.test(sha256)) throw new Error('This is not a hash.');
  return join(directory, sha256.slice(0, 2), sha256);
}

async function syncFolder(path: string): Promise<void> {
  const folder = await open(path, 'r');
  await folder.sync();
  await folder.close();
}

function hashOf(document: Document | undefined): string | undefined {
  const hash = document?.data.sha256;
  return typeof hash === 'string' && /^[0-9a-f]{64}$/.test(hash) ? hash : undefined;
}

function tooLarge(most: number): Error {
  return problemError('too-large', `A file has at most ${most.toLocaleString('en-GB')} bytes here.`);
}
