import { createReadStream, createWriteStream, mkdtempSync, rmSync, statSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { extname, join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { ProblemError, type Store } from '@uproar/client';
import { formatAddress, isDocumentId, isObject, type JsonObject } from '@uproar/core';
import type { WireWrite } from '@uproar/protocol';
import { CommandError, EXIT } from '../exit-codes.js';
import { readCsv } from './csv-rows.js';
import { readJsonArray, readNdjson } from './json-rows.js';
import { RowError, type Row } from './rows.js';

/** The kinds of files that can be brought in. */
export type ImportFormat = 'ndjson' | 'json' | 'csv';

/** How a file is brought in. */
export interface ImportOptions {
  /** Told by the file's ending when it is not given. */
  format?: ImportFormat | undefined;
  /** The field that holds the id; it does not become part of the data. */
  idField?: string | undefined;
  /** Hears after each commit how many bytes of how many were read, and how many documents were written. */
  onProgress?: (readBytes: number, totalBytes: number, documents: number) => void;
}

/** A commit is sent when it has so many documents or so many characters, whichever comes first. */
const BATCH_DOCUMENTS = 250;
const BATCH_CHARACTERS = 1024 * 1024;

/** Commits that may be under way at the same time. */
const MAX_IN_FLIGHT = 4;

/**
 * Brings the documents of a file into a collection. Documents with an id replace those that have it already; the
 * others get generated ids.
 *
 * @param path the file; `-` for standard input
 * @returns how many documents were written
 * @throws {CommandError} that names the line at fault; what stood before it is in the store then
 */
export async function importFile(
  store: Store,
  collection: string,
  path: string,
  options: ImportOptions,
): Promise<number> {
  const format = options.format ?? formatOf(path);
  if (path !== '-' || format !== 'csv') return importFrom(store, collection, path, format, options);
  const directory = mkdtempSync(join(tmpdir(), 'uproar-import-'));
  try {
    const copy = join(directory, 'input.csv');
    await pipeline(process.stdin, createWriteStream(copy));
    return await importFrom(store, collection, copy, format, options);
  } finally {
    rmSync(directory, { recursive: true, force: true });
  }
}

function formatOf(path: string): ImportFormat {
  const format = { '.ndjson': 'ndjson', '.jsonl': 'ndjson', '.json': 'json', '.csv': 'csv' }[
    extname(path).toLowerCase()
  ];
  if (format) return format as ImportFormat;
  throw new CommandError(
    `The ending of ${path} does not tell what it is.`,
    EXIT.usage,
    'Say it with --format ndjson, json or csv.',
  );
}

async function importFrom(
  store: Store,
  collection: string,
  path: string,
  format: ImportFormat,
  options: ImportOptions,
): Promise<number> {
  const totalBytes = path === '-' ? 0 : sizeOf(path);
  let readBytes = 0;
  let written = 0;
  const input = path === '-' ? process.stdin : createReadStream(path);
  if (format !== 'csv') input.on('data', (chunk: string | Buffer) => (readBytes += chunk.length));

  const inFlight = new Set<Promise<void>>();
  let failure: unknown;
  const send = async (batch: Batch) => {
    const sent = store
      .commit({ writes: batch.writes })
      .then(() => {
        written += batch.writes.length;
        options.onProgress?.(format === 'csv' ? totalBytes : readBytes, totalBytes, written);
      })
      .catch((error: unknown) => void (failure ??= explain(error, batch)))
      .finally(() => inFlight.delete(sent));
    inFlight.add(sent);
    if (inFlight.size >= MAX_IN_FLIGHT) await Promise.race(inFlight);
    if (failure) throw failure;
  };

  let batch = new Batch();
  try {
    for await (const row of readRows(format, path, input)) {
      batch.add(writeFor(collection, row, options.idField), row);
      if (!batch.full) continue;
      await send(batch);
      batch = new Batch();
    }
    if (batch.writes.length > 0) await send(batch);
    await Promise.all(inFlight);
    if (failure) throw failure;
    return written;
  } catch (error) {
    await Promise.all(inFlight);
    const rowError = failure ?? error;
    if (!(rowError instanceof RowError)) throw rowError;
    throw new CommandError(
      `Line ${rowError.line}: ${rowError.message}`,
      EXIT.usage,
      `${written} documents before it are in the store. Mend the line and run it again: documents with an id are replaced, not doubled.`,
    );
  } finally {
    input.destroy();
  }
}

class Batch {
  readonly writes: WireWrite[] = [];
  readonly lines: number[] = [];
  #characters = 0;

  add(write: WireWrite, { line, value }: Row): void {
    this.writes.push(write);
    this.lines.push(line);
    this.#characters += JSON.stringify(value).length;
  }

  get full(): boolean {
    return this.writes.length >= BATCH_DOCUMENTS || this.#characters >= BATCH_CHARACTERS;
  }
}

function readRows(format: ImportFormat, path: string, input: Readable): AsyncGenerator<Row> {
  if (format === 'csv') return readCsv(path);
  return format === 'json' ? readJsonArray(input) : readNdjson(input);
}

function sizeOf(path: string): number {
  try {
    return statSync(path).size;
  } catch (error) {
    throw new CommandError(`${path} cannot be read (${(error as NodeJS.ErrnoException).code}).`, EXIT.usage);
  }
}

/** The write for one row. A row in the form in which documents are read (`id` and `data`) is taken apart as such. */
function writeFor(collection: string, { line, value }: Row, idField: string | undefined): WireWrite {
  const isDocument =
    idField === undefined && typeof value.id === 'string' && typeof value.version === 'number' && isObject(value.data);
  const { [idField ?? 'id']: idValue, ...rest } = value;
  const data = isDocument ? (value.data as JsonObject) : (rest as JsonObject);
  if (idValue === undefined) {
    if (idField === undefined) return { create: collection, data };
    throw new RowError(line, `There is no field "${idField}" to take the id from.`);
  }
  const id = String(idValue as string | number);
  if (!isDocumentId(id))
    throw new RowError(line, `"${id}" cannot be an id: 1 to 128 of A-Z, a-z, 0-9, "-", ".", "_" and "~".`);
  return { put: formatAddress(collection, id), data };
}

function explain(error: unknown, batch: Batch): unknown {
  if (!(error instanceof ProblemError)) return error;
  const { write, detail, pointer } = error.problem;
  const line = write === undefined ? undefined : batch.lines[write];
  return line === undefined && batch.lines.length > 1
    ? error
    : new RowError(line ?? batch.lines[0]!, pointer ? `${detail} (at ${pointer})` : detail);
}
