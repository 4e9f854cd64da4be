import { findDataFault, isDocumentId, isObject, JsonTextError, parseJson } from '@uproar/core';
import type { JsonObject, JsonValue } from '@uproar/client';
import { readCsv, type Separator } from './read-csv.js';

/** A document to create, or its fault. */
export interface Row {
  /** Where it stands in the file: `line 3`, `item 2`. */
  place: string;
  data: JsonObject;
  /** The cells of a row of CSV as they were read, by column. */
  cells?: ReadonlyMap<string, string>;
  /** When the document expires, if the file has a whole document that does. */
  expires?: string;
  fault?: string;
}

/** Larger files are for the command line, which reads them bit by bit. */
export const MAX_FILE_BYTES = 50_000_000;

/** The contents of a file. */
export interface Reading {
  rows: Row[];
  /** What separates the values of a CSV file. */
  separator?: Separator;
  /** Interpretations that may surprise a person, in words. */
  notes: string[];
}

/**
 * The rows of a file: NDJSON, a JSON array or object, or CSV with a header row. Invalid rows have a fault.
 *
 * @param separator the separator of a CSV file; detected if not given
 * @throws {Error} with a message for people, if the format is unknown
 */
export function readRows(name: string, text: string, separator?: Separator): Reading {
  if (isCsv(name)) {
    const csv = readCsv(text, separator ?? (/\.tsv$/i.test(name) ? '\t' : undefined));
    const rows = csv.records.map(({ line, values, fault }) =>
      values
        ? { ...toRow(`line ${line}`, toData(values), fault), cells: values }
        : { place: `line ${line}`, data: {}, fault: fault! },
    );
    return { rows, separator: csv.separator, notes: csv.notes };
  }
  return { rows: readJsonRows(name, text), notes: [] };
}

/** Whether a file is read as CSV, by its name. */
function isCsv(name: string): boolean {
  return /\.(csv|tsv)$/i.test(name);
}

function readJsonRows(name: string, text: string): Row[] {
  const trimmed = text.trimStart();
  if (trimmed.startsWith('[')) {
    const items = parseJson(text) as JsonValue[];
    return items.map((item, index) => toRow(`item ${index + 1}`, item));
  }
  if (/\.(ndjson|jsonl)$/i.test(name) || isManyLines(trimmed)) {
    return text
      .split('\n')
      .map((line, index) => ({ line: line.trim(), place: `line ${index + 1}` }))
      .filter(({ line }) => line !== '')
      .map(({ line, place }) => readLine(line, place));
  }
  if (trimmed.startsWith('{')) return [toRow('item 1', parseJson(text))];
  throw new Error('This is neither JSON, NDJSON nor CSV. The name of a CSV file ends with .csv.');
}

/** The field that gives documents their ids, if every row has one that can: `id`, or nothing. */
export function findIdField(rows: readonly Row[]): string | undefined {
  return ['id', '_id', 'key'].find(
    (name) =>
      rows.length > 0 && rows.every(({ data, fault }) => fault !== undefined || isDocumentId(String(data[name] ?? ''))),
  );
}

function isManyLines(text: string): boolean {
  const end = text.indexOf('\n');
  if (end === -1 || !text.startsWith('{')) return false;
  try {
    parseJson(text.slice(0, end));
    return text.slice(end).trim() !== '';
  } catch {
    return false;
  }
}

function readLine(line: string, place: string): Row {
  try {
    return toRow(place, parseJson(line));
  } catch (error) {
    if (!(error instanceof JsonTextError)) throw error;
    return { place, data: {}, fault: error.message };
  }
}

/** A file that `uproar export` wrote holds whole documents; of their bookkeeping, only the end is kept. */
function toRow(place: string, item: JsonValue, known?: string): Row {
  if (!isObject(item)) return { place, data: {}, fault: 'A document must be a JSON object.' };
  const { id, data } = item;
  const whole = typeof id === 'string' && isObject(data) && Object.keys(item).every((key) => BOOKKEEPING.has(key));
  const content = whole ? { id, ...data } : item;
  const found = findDataFault(content);
  const fault = known ?? (found && `${found.pointer} ${found.detail}`.trim());
  const end = whole && typeof item.expires === 'string' ? { expires: item.expires } : {};
  return { place, data: content, ...end, ...(fault === undefined ? {} : { fault }) };
}

const BOOKKEEPING = new Set(['id', 'version', 'created', 'updated', 'expires', 'data']);

/** The values of a row of CSV as data. An empty cell is no field. */
function toData(values: ReadonlyMap<string, string>): JsonObject {
  const filled = [...values].filter(([, value]) => value !== '');
  return Object.fromEntries(filled.map(([name, value]) => [name, readCell(value)]));
}

/** Numbers, true, false, lists and objects as JSON has them; everything else is text, such as `007`. */
function readCell(text: string): JsonValue {
  if (!/^(-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?|true|false|null|[[{].*[\]}])$/s.test(text)) return text;
  try {
    return parseJson(text);
  } catch {
    return text;
  }
}
