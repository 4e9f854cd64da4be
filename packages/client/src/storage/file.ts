import { createHash } from 'node:crypto';
import {
  closeSync,
  fdatasyncSync,
  mkdirSync,
  openSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { ClientStorage, KeptUpload, OutboxEntry, StoredView } from './storage.js';

/** The log of additions and removals is rewritten when it has this many lines more than entries. */
const MAX_EXTRA_LINES = 1000;

/**
 * Keeps the outbox and copies of watches in a directory, for one process at a time. An entry is on disk before {@link
 * putEntry} resolves.
 */
export class FileStorage implements ClientStorage {
  readonly #directory: string;
  readonly #file: string;
  readonly #entries = new Map<string, OutboxEntry>();
  #descriptor: number;
  #lines = 0;

  constructor(directory: string) {
    this.#directory = directory;
    this.#file = join(directory, 'outbox.ndjson');
    mkdirSync(this.#uploads, { recursive: true, mode: 0o700 });
    for (const line of readText(this.#file).split('\n')) {
      // A line that was cut off by a crash was never acknowledged.
      const change = parse<{ put?: OutboxEntry; remove?: string }>(line);
      if (change?.put) this.#entries.set(change.put.commit.id, change.put);
      else if (change?.remove !== undefined) this.#entries.delete(change.remove);
    }
    this.#descriptor = this.#compact();
    // So with files that were being kept when the process ended.
    const names = new Set(readdirSync(this.#uploads));
    for (const name of names) {
      if (!name.endsWith('.json') && !names.has(`${name}.json`)) rmSync(this.#uploadFile(name));
    }
  }

  entries(): Promise<OutboxEntry[]> {
    return Promise.resolve([...this.#entries.values()]);
  }

  async putEntry(entry: OutboxEntry): Promise<void> {
    // What did not reach the disk is not kept, so that it is not sent later either.
    this.#append({ put: entry });
    this.#entries.set(entry.commit.id, entry);
  }

  removeEntry(id: string): Promise<void> {
    this.#entries.delete(id);
    this.#append({ remove: id });
    return Promise.resolve();
  }

  view(key: string): Promise<StoredView | undefined> {
    return Promise.resolve(parse<StoredView>(readText(this.#viewFile(key))));
  }

  putView(key: string, view: StoredView): Promise<void> {
    return new Promise((resolve) => {
      if (this.#descriptor !== -1) replaceFile(this.#viewFile(key), JSON.stringify(view));
      resolve();
    });
  }

  async uploads(): Promise<KeptUpload[]> {
    const uploads: KeptUpload[] = [];
    for (const name of readdirSync(this.#uploads).sort()) {
      const [, key] = /^(.+)\.json$/.exec(name) ?? [];
      const upload =
        key === undefined ? undefined : parse<Omit<KeptUpload, 'content'>>(readText(this.#uploadFile(name)));
      if (upload) uploads.push({ ...upload, content: new Blob([await readFile(this.#uploadFile(upload.key))]) });
    }
    return uploads;
  }

  async putUpload({ content, ...upload }: KeptUpload): Promise<void> {
    const file = this.#uploadFile(upload.key);
    const chunks = content.stream() as unknown as AsyncIterable<Uint8Array>;
    await writeFile(file, chunks, { mode: 0o600, flush: true } as never);
    // The upload counts once its description is written.
    replaceFile(`${file}.json`, JSON.stringify(upload));
  }

  removeUpload(key: string): Promise<void> {
    const file = this.#uploadFile(key);
    for (const name of [`${file}.json`, file]) rmSync(name, { force: true });
    return Promise.resolve();
  }

  close(): void {
    if (this.#descriptor !== -1) closeSync(this.#descriptor);
    this.#descriptor = -1;
  }

  #append(change: object): void {
    if (this.#descriptor === -1) return;
    writeSync(this.#descriptor, JSON.stringify(change) + '\n');
    fdatasyncSync(this.#descriptor);
    if (++this.#lines > this.#entries.size + MAX_EXTRA_LINES) {
      closeSync(this.#descriptor);
      this.#descriptor = this.#compact();
    }
  }

  /** Rewrites the log with the remaining entries. Returns it opened for appending. */
  #compact(): number {
    replaceFile(this.#file, [...this.#entries.values()].map((entry) => JSON.stringify({ put: entry }) + '\n').join(''));
    this.#lines = this.#entries.size;
    return openSync(this.#file, 'a', 0o600);
  }

  get #uploads(): string {
    return join(this.#directory, 'uploads');
  }

  #uploadFile(name: string): string {
    return join(this.#uploads, name);
  }

  #viewFile(key: string): string {
    return join(this.#directory, `view-${createHash('sha256').update(key).digest('hex').slice(0, 32)}.json`);
  }
}

function readText(file: string): string {
  try {
    return readFileSync(file, 'utf8');
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT') return '';
    throw error;
  }
}

function parse<Value>(text: string): Value | undefined {
  try {
    return JSON.parse(text) as Value;
  } catch {
    return undefined;
  }
}

function replaceFile(file: string, text: string): void {
  const part = `${file}.part`;
  writeFileSync(part, text, { mode: 0o600, flush: true } as never);
  renameSync(part, file);
}
