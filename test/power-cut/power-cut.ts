import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type { Random } from '../random.js';

const HEADER_BYTES = 17;
const SECTOR_BYTES = 512;

/** A file as the disk and as the process see it. */
interface File {
  /** The content that a power cut leaves. */
  durable: Content;
  /** The operations since its last sync, in order. */
  pending: Change[];
}

/** A write, or a new length. */
type Change = { at: number; bytes: Buffer } | { length: number };

/** A change of the directory that is not on disk yet. */
type NameChange =
  | { kind: 'link'; path: string; file: File }
  | { kind: 'rename'; from: string; path: string }
  | { kind: 'unlink'; path: string };

/**
 * Power cuts for a process that writes to one directory. A library that is preloaded into the process records its writes
 * and syncs. {@link cut} then puts the directory into a state that a disk could have after a power cut: everything that was
 * synced, and a random part of what was not. Killing a process alone does not test this, because the operating system still
 * writes everything that the process wrote.
 */
export class PowerCut {
  readonly #directory: string;
  readonly #library: string;
  readonly #journal: string;

  /**
   * @param directory the directory that the process writes to
   * @param workspace a directory for the compiled library and the record
   * @param dropSyncs whether syncs are left out, as by a program that has none
   */
  constructor(
    directory: string,
    workspace: string,
    readonly dropSyncs = false,
  ) {
    this.#directory = directory;
    this.#library = join(workspace, 'record-writes.so');
    this.#journal = join(workspace, 'writes');
    const source = new URL('record-writes.c', import.meta.url).pathname;
    execFileSync('cc', ['-shared', '-fPIC', '-O2', '-o', this.#library, source, '-ldl', '-lpthread']);
  }

  /** Starts a new record. Returns the environment of the process to be recorded. */
  begin(): Record<string, string> {
    rmSync(this.#journal, { force: true });
    return {
      LD_PRELOAD: this.#library,
      RECORD_ROOT: this.#directory,
      RECORD_JOURNAL: this.#journal,
      // Otherwise Node.js may hand writes to the kernel past the library.
      UV_USE_IO_URING: '0',
      ...(this.dropSyncs ? { RECORD_DROP_SYNCS: '1' } : {}),
    };
  }

  /**
   * Cuts the power. The process must have been killed.
   *
   * @param before the files that were there when the record began, see {@link readTree}
   * @returns the number of syncs that were recorded
   */
  cut(random: Random, before: ReadonlyMap<string, Buffer>): number {
    const disk = new RecordedDisk(before);
    const journal = existsSync(this.#journal) ? readFileSync(this.#journal) : Buffer.alloc(0);
    for (let at = 0; at + HEADER_BYTES <= journal.length;) {
      const length = journal.readUInt32LE(at + 13);
      // The process may have been killed within the last record.
      if (at + HEADER_BYTES + length > journal.length) break;
      disk.apply(
        String.fromCharCode(journal[at]!),
        journal.readInt32LE(at + 1),
        Number(journal.readBigUInt64LE(at + 5)),
        journal.subarray(at + HEADER_BYTES, at + HEADER_BYTES + length),
      );
      at += HEADER_BYTES + length;
    }
    const files = disk.afterCut(random);
    for (const path of readTree(this.#directory).keys()) rmSync(path);
    for (const [path, content] of files) {
      mkdirSync(dirname(path), { recursive: true });
      writeFileSync(path, content);
    }
    return disk.syncs;
  }
}

/** The files below a directory, by path, with their contents. */
export function readTree(directory: string): Map<string, Buffer> {
  const files = new Map<string, Buffer>();
  if (!existsSync(directory)) return files;
  for (const entry of readdirSync(directory, { recursive: true, withFileTypes: true })) {
    const path = join(entry.parentPath, entry.name);
    if (entry.isFile() && isKept(path)) files.set(path, readFileSync(path));
  }
  return files;
}

/** SQLite maps its index of the write-ahead log into memory and rebuilds it after a crash. */
function isKept(path: string): boolean {
  return !path.endsWith('-shm');
}

/** Replays the record. Keeps synced and unsynced content apart. */
class RecordedDisk {
  syncs = 0;
  readonly #now = new Map<string, File>();
  readonly #durable = new Map<string, File>();
  readonly #open = new Map<number, { path: string; file: File | undefined }>();
  #changes: NameChange[] = [];

  constructor(before: ReadonlyMap<string, Buffer>) {
    for (const [path, content] of before) {
      const file: File = { durable: new Content(content), pending: [] };
      this.#now.set(path, file);
      this.#durable.set(path, file);
    }
  }

  apply(type: string, descriptor: number, at: number, payload: Buffer): void {
    const file = this.#open.get(descriptor)?.file;
    switch (type) {
      case 'N':
      case 'O':
        return this.#opened(descriptor, payload.toString(), type === 'N', at === 1);
      case 'W':
        file?.pending.push({ at, bytes: payload });
        return;
      case 'T':
        file?.pending.push({ length: at });
        return;
      case 'S':
        return this.#synced(descriptor);
      case 'R': {
        const [from, path] = payload.toString().split('\0') as [string, string];
        const moved = this.#now.get(from);
        if (!moved) return;
        this.#now.delete(from);
        this.#now.set(path, moved);
        this.#changes.push({ kind: 'rename', from, path });
        return;
      }
      case 'U':
        this.#now.delete(payload.toString());
        this.#changes.push({ kind: 'unlink', path: payload.toString() });
        return;
      default:
        throw new Error(`The record has an operation "${type}".`);
    }
  }

  /** The files that a power cut leaves. */
  afterCut(random: Random): Map<string, Buffer> {
    // Changes of directories reach the disk in their order.
    const kept = random.integer(0, this.#changes.length);
    for (const change of this.#changes.slice(0, kept)) this.#changeName(change);
    const share = [0, 0.5, 1][random.integer(0, 2)]!;
    return new Map([...this.#durable].map(([path, file]) => [path, contentAfterCut(file, random, share)]));
  }

  #opened(descriptor: number, path: string, created: boolean, truncated: boolean): void {
    let file = isKept(path) ? this.#now.get(path) : undefined;
    if (created && isKept(path)) {
      file = { durable: new Content(), pending: [] };
      this.#now.set(path, file);
      this.#changes.push({ kind: 'link', path, file });
    } else if (truncated) file?.pending.push({ length: 0 });
    this.#open.set(descriptor, { path, file });
  }

  #synced(descriptor: number): void {
    const opened = this.#open.get(descriptor);
    if (!opened) return;
    this.syncs++;
    const { path, file } = opened;
    if (file) {
      for (const change of file.pending.splice(0)) file.durable.apply(change);
      // The sync of a file that is new includes its entry in the directory, as on the usual file systems.
      this.#keep((change) => change.kind === 'link' && change.file === file);
    } else this.#keep((change) => dirname(change.path) === path);
  }

  /** Makes some changes of directories durable. */
  #keep(concerned: (change: NameChange) => boolean): void {
    const rest: NameChange[] = [];
    for (const change of this.#changes) {
      if (concerned(change)) this.#changeName(change);
      else rest.push(change);
    }
    this.#changes = rest;
  }

  #changeName(change: NameChange): void {
    if (change.kind === 'link') this.#durable.set(change.path, change.file);
    else if (change.kind === 'unlink') this.#durable.delete(change.path);
    else {
      const file = this.#durable.get(change.from);
      if (!file) return;
      this.#durable.delete(change.from);
      this.#durable.set(change.path, file);
    }
  }
}

/** A file with a random part of its unsynced writes: each sector of a write has reached the disk, or has not. */
function contentAfterCut({ durable, pending }: File, random: Random, share: number): Buffer {
  for (const change of pending) {
    if ('length' in change) {
      if (random.chance(share)) durable.apply(change);
      continue;
    }
    for (let from = 0; from < change.bytes.length; from += SECTOR_BYTES) {
      if (!random.chance(share)) continue;
      durable.apply({ at: change.at + from, bytes: change.bytes.subarray(from, from + SECTOR_BYTES) });
    }
  }
  return durable.bytes;
}

/** Bytes that grow. */
class Content {
  #buffer: Buffer;
  #length: number;

  constructor(bytes: Buffer = Buffer.alloc(0)) {
    this.#buffer = Buffer.from(bytes);
    this.#length = bytes.length;
  }

  get bytes(): Buffer {
    return this.#buffer.subarray(0, this.#length);
  }

  apply(change: Change): void {
    const end = 'length' in change ? change.length : change.at + change.bytes.length;
    if (end > this.#buffer.length) {
      const grown = Buffer.alloc(Math.max(end, 2 * this.#buffer.length));
      this.bytes.copy(grown);
      this.#buffer = grown;
    }
    if ('length' in change) {
      if (end < this.#length) this.#buffer.fill(0, end, this.#length);
      this.#length = end;
    } else {
      change.bytes.copy(this.#buffer, change.at);
      this.#length = Math.max(this.#length, end);
    }
  }
}
