import { randomUUID } from 'node:crypto';
import { createReadStream, createWriteStream, mkdtempSync, rmSync, statSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { extname, join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { ProblemError, type Receipt, type Store } from '@uproar/client';
import { findDataFault, formatAddress, isDocumentId, isObject, type JsonObject } from '@uproar/core';
import type { WireWrite } from '@uproar/protocol';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { readCsv } from './csv-rows.js';
import { readJsonArray, readNdjson } from './json-rows.js';
import { ProgressFile } from './progress-file.js';
import { RowError, type Row } from './rows.js';

/** The kinds of files that can be brought in. */
export type ImportFormat = 'ndjson' | 'json' | 'csv';

/** What becomes of a document that is in the store already. */
export type OnConflict = 'replace' | 'keep' | 'fail';

/** How a file is brought in. */
export interface ImportOptions {
  /** Guessed from the ending of the file name if it is not given. */
  format?: ImportFormat | undefined;
  /** The field that holds the id; it does not become part of the data. */
  idField?: string | undefined;
  onConflict: OnConflict;
  /** Leave bad rows out instead of stopping at the first. */
  skipBad?: boolean | undefined;
  /** Only look: which rows are bad, and with `fail` and `keep` which documents are there already. */
  dryRun?: boolean | undefined;
  /** True: continue an interrupted import. False: start again. Undefined: refuse if there is one. */
  resume?: boolean | undefined;
  /** Called after each commit with the bytes read, the total bytes, and the documents written. */
  onProgress?: (readBytes: number, totalBytes: number, documents: number) => void;
}

/** The result of an import. */
export interface ImportResult {
  /** Documents written, or, in a dry run, that would be. */
  written: number;
  /** Documents that were there and were left as they are. */
  kept: number;
  /** Rows that were left out, by line; the first few of them. */
  bad: { line: number; reason: string }[];
  badCount: number;
}

/** A commit is sent when it has this many documents or characters, whichever comes first. */
const BATCH_DOCUMENTS = 250;
const BATCH_CHARACTERS = 1024 * 1024;

/** Commits in flight at the same time. */
const MAX_IN_FLIGHT = 4;

/** Bad rows whose reasons are kept. */
const MAX_REASONS = 20;

/**
 * Brings the documents of a file into a collection.
 *
 * @param path the file; `-` for standard input
 * @throws {CommandError} that names the line at fault; what stood before it is in the store then
 */
export async function importFile(
  store: Store,
  collection: string,
  path: string,
  options: ImportOptions,
): Promise<ImportResult> {
  const format = options.format ?? formatOf(path);
  if (path === '-' && options.resume !== undefined) {
    throw new CommandError('An import from standard input cannot be resumed.', EXIT.usage);
  }
  if (path !== '-' || format !== 'csv') return new Import(store, collection, path, format, options).run();
  const directory = mkdtempSync(join(tmpdir(), 'uproar-import-'));
  try {
    const copy = join(directory, 'input.csv');
    await pipeline(process.stdin, createWriteStream(copy));
    return await new Import(store, collection, copy, format, { ...options, resume: false }).run();
  } finally {
    rmSync(directory, { recursive: true, force: true });
  }
}

function formatOf(path: string): ImportFormat {
  const format = { '.ndjson': 'ndjson', '.jsonl': 'ndjson', '.json': 'json', '.csv': 'csv' }[
    extname(path).toLowerCase()
  ];
  if (format) return format as ImportFormat;
  throw new CommandError(`The format of ${path} is unknown.`, EXIT.usage, 'Set it with --format ndjson, json or csv.');
}

/** One run over a file. */
class Import {
  readonly #store: Store;
  readonly #collection: string;
  readonly #path: string;
  readonly #format: ImportFormat;
  readonly #options: ImportOptions;
  readonly #result: ImportResult = { written: 0, kept: 0, bad: [], badCount: 0 };
  readonly #totalBytes: number;
  #readBytes = 0;
  readonly #inFlight = new Map<Batch, Promise<void>>();
  #failure: unknown;
  #progress: ProgressFile | undefined;

  constructor(store: Store, collection: string, path: string, format: ImportFormat, options: ImportOptions) {
    this.#store = store;
    this.#collection = collection;
    this.#path = path;
    this.#format = format;
    this.#options = options;
    this.#totalBytes = path === '-' ? 0 : sizeOf(path);
  }

  async run(): Promise<ImportResult> {
    const { dryRun, onConflict, resume } = this.#options;
    const run = randomUUID();
    if (this.#path !== '-' && !dryRun) {
      const what = { run, collection: this.#collection, onConflict };
      this.#progress = ProgressFile.open(this.#path, what, resume);
    }
    const { progress } = this.#progress ?? {};
    this.#result.written = progress?.written ?? 0;
    this.#result.kept = progress?.kept ?? 0;
    const input = this.#path === '-' ? process.stdin : createReadStream(this.#path);
    if (this.#format !== 'csv') input.on('data', (chunk: string | Buffer) => (this.#readBytes += chunk.length));
    try {
      await this.#bringIn(this.#rows(input), progress?.run ?? run, progress?.rows ?? 0);
      this.#progress?.finish();
      return this.#result;
    } catch (error) {
      await Promise.all(this.#inFlight.values());
      if (this.#progress?.progress.rows === 0) this.#progress.finish();
      else this.#progress?.write();
      throw this.#explain(this.#failure ?? error);
    } finally {
      input.destroy();
    }
  }

  async #bringIn(rows: AsyncGenerator<Row>, run: string, skip: number): Promise<void> {
    let number = 0;
    let batch = new Batch(run, skip);
    for await (const row of rows) {
      if (number++ < skip) continue;
      try {
        if ('error' in row) throw new RowError(row.line, row.error);
        batch.add(this.#writeFor(row), row.line, number);
      } catch (error) {
        if (!(error instanceof RowError)) throw error;
        this.#leaveOut(error);
        batch.endRow = number;
      }
      if (!batch.full) continue;
      await this.#send(batch);
      batch = new Batch(run, number);
    }
    if (batch.endRow > batch.startRow) await this.#send(batch);
    await Promise.all(this.#inFlight.values());
    if (this.#failure) throw this.#failure;
  }

  /** Notes a bad row, or stops at it. */
  #leaveOut(error: RowError): void {
    if (!this.#options.skipBad && !this.#options.dryRun) throw error;
    this.#result.badCount++;
    if (this.#result.bad.length < MAX_REASONS) this.#result.bad.push({ line: error.line, reason: error.message });
  }

  async #send(batch: Batch): Promise<void> {
    const sent = (this.#options.dryRun ? this.#look(batch) : this.#commit(batch))
      .catch((error: unknown) => void (this.#failure ??= error))
      .finally(() => {
        this.#inFlight.delete(batch);
        if (!this.#failure) this.#note(batch);
      });
    this.#inFlight.set(batch, sent);
    if (this.#inFlight.size >= MAX_IN_FLIGHT) await Promise.race(this.#inFlight.values());
    if (this.#failure) throw this.#failure;
  }

  /** Commits a batch; without the rows that the store finds bad, where they are to be left out. */
  async #commit(batch: Batch): Promise<void> {
    for (let attempt = 0; batch.writes.length > 0; attempt++) {
      try {
        const id = `import-${batch.run}-${batch.startRow}-${attempt}`;
        this.#count(await this.#store.commit({ id, writes: batch.writes }));
        return;
      } catch (error) {
        const rowError = batch.rowError(error);
        if (!rowError) throw error;
        this.#leaveOut(rowError.error);
        batch.remove(rowError.index);
      }
    }
  }

  #count({ seq, documents }: Receipt): void {
    const written = documents.filter(({ version }) => version === seq).length;
    this.#result.written += written;
    this.#result.kept += documents.length - written;
  }

  /** What a commit of the batch would do. */
  async #look(batch: Batch): Promise<void> {
    batch.writes.forEach((write, index) => {
      const fault = 'data' in write ? findDataFault(write.data) : undefined;
      if (fault) this.#leaveOut(new RowError(batch.lines[index]!, `${fault.detail} (at ${fault.pointer})`));
      else this.#result.written++;
    });
    if (this.#options.onConflict === 'replace') return;
    const ids = batch.writes.flatMap((write, index) =>
      'create' in write && write.id !== undefined ? [[write.id, batch.lines[index]!] as const] : [],
    );
    if (ids.length === 0) return;
    const where = `meta('id') IN (${ids.map(([id]) => `'${id}'`).join(',')})`;
    const query = { where, limit: ids.length, fields: 'id' };
    const { documents } = await this.#store.collection(this.#collection).list(query);
    const there = new Set(documents.map(({ id }) => id));
    for (const [id, line] of ids) {
      if (!there.has(id)) continue;
      this.#result.written--;
      if (this.#options.onConflict === 'keep') this.#result.kept++;
      else this.#leaveOut(new RowError(line, `${formatAddress(this.#collection, id)} exists already.`));
    }
  }

  /** Saves the position up to which every commit is done, and reports progress. */
  #note(batch: Batch): void {
    const underWay = [...this.#inFlight.keys()].map(({ startRow }) => startRow);
    const rows = underWay.length > 0 ? Math.min(...underWay) : batch.endRow;
    const { written, kept } = this.#result;
    this.#progress?.note({ rows: Math.max(rows, this.#progress.progress.rows), written, kept });
    const readBytes = this.#format === 'csv' ? this.#totalBytes : this.#readBytes;
    this.#options.onProgress?.(readBytes, this.#totalBytes, written);
  }

  #rows(input: Readable): AsyncGenerator<Row> {
    if (this.#format === 'csv') return readCsv(this.#path);
    return this.#format === 'json' ? readJsonArray(input) : readNdjson(input);
  }

  /** The write for one row. A row in the form in which documents are read (`id` and `data`) is taken apart as such. */
  #writeFor({ line, value }: { line: number; value: JsonObject }): WireWrite {
    const { idField, onConflict } = this.#options;
    const isDocument =
      idField === undefined &&
      typeof value.id === 'string' &&
      typeof value.version === 'number' &&
      isObject(value.data);
    const { [idField ?? 'id']: idValue, ...rest } = value;
    const data = isDocument ? (value.data as JsonObject) : (rest as JsonObject);
    if (idValue === undefined) {
      if (idField === undefined) return { create: this.#collection, data };
      throw new RowError(line, `There is no field "${idField}" to take the id from.`);
    }
    const id = String(idValue as string | number);
    if (!isDocumentId(id))
      throw new RowError(line, `"${id}" cannot be an id: 1 to 128 of A-Z, a-z, 0-9, "-", ".", "_" and "~".`);
    const end = isDocument && typeof value.expires === 'string' ? { expires: value.expires } : {};
    if (onConflict === 'replace') return { put: formatAddress(this.#collection, id), data, ...end };
    return { create: this.#collection, id, data, ...end, ...(onConflict === 'keep' ? { keepExisting: true } : {}) };
  }

  #explain(error: unknown): unknown {
    const { written } = this.#result;
    const goOn =
      this.#progress && this.#progress.progress.rows > 0
        ? `${written} documents are in the store. Continue with --resume`
        : `${written} documents are in the store`;
    if (error instanceof RowError) {
      return new CommandError(
        `Line ${error.line}: ${error.message}`,
        EXIT.usage,
        `${goOn}${goOn.endsWith('--resume') ? ' and --skip-bad, or correct the line and start again with --no-resume' : '. Correct the line, or skip bad rows with --skip-bad'}.`,
      );
    }
    if (written > 0) process.stderr.write(`${goOn}.\n`);
    return error;
  }
}

/** Rows that are committed together. */
class Batch {
  readonly writes: WireWrite[] = [];
  readonly lines: number[] = [];
  /** The batch holds the rows behind this one, up to and with `endRow`. */
  endRow: number;
  #characters = 0;

  constructor(
    readonly run: string,
    readonly startRow: number,
  ) {
    this.endRow = startRow;
  }

  add(write: WireWrite, line: number, row: number): void {
    this.writes.push(write);
    this.lines.push(line);
    this.endRow = row;
    this.#characters += JSON.stringify(write).length;
  }

  remove(index: number): void {
    this.writes.splice(index, 1);
    this.lines.splice(index, 1);
  }

  get full(): boolean {
    return this.endRow - this.startRow >= BATCH_DOCUMENTS || this.#characters >= BATCH_CHARACTERS;
  }

  /** The row that a refusal is about; undefined when it is about none, or no refusal at all. */
  rowError(error: unknown): { error: RowError; index: number } | undefined {
    if (!(error instanceof ProblemError) || error.problem.status >= 500) return undefined;
    const { write, detail, pointer } = error.problem;
    const index = write ?? (this.writes.length === 1 ? 0 : undefined);
    if (index === undefined) return undefined;
    return { index, error: new RowError(this.lines[index]!, pointer ? `${detail} (at ${pointer})` : detail) };
  }
}

function sizeOf(path: string): number {
  try {
    return statSync(path).size;
  } catch (error) {
    throw new CommandError(`${path} cannot be read (${(error as NodeJS.ErrnoException).code}).`, EXIT.usage);
  }
}
