import { parse } from 'csv-parse/browser/esm/sync';
import { findDataFault, isDocumentId, isObject, JsonTextError, parseJson } from '@uproar/core';
import type { JsonObject, JsonValue } from '@uproar/client';

/** A document to be, or what is wrong with it. */
export interface Row {
  /** Where it stands in the file: `line 3`, `item 2`. */
  place: string;
  data: JsonObject;
  fault?: string;
}

/** Larger files are for the command line, which reads them bit by bit. */
export const MAX_FILE_BYTES = 50_000_000;

/**
 * The rows of a file: NDJSON, a JSON array or object, or CSV with a heading.
 *
 * @throws {Error} with words for people, when it is none of these
 */
export function readRows(name: string, text: string): Row[] {
  if (/\.(csv|tsv)$/i.test(name)) return readCsv(text, /\.tsv$/i.test(name) ? '\t' : undefined);
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

/** A file that `uproar export` wrote holds whole documents; their bookkeeping is left behind. */
function toRow(place: string, item: JsonValue): Row {
  if (!isObject(item)) return { place, data: {}, fault: 'A document must be a JSON object.' };
  const { id, data } = item;
  const whole = typeof id === 'string' && isObject(data) && Object.keys(item).every((key) => BOOKKEEPING.has(key));
  const content = whole ? { id, ...data } : item;
  const fault = findDataFault(content);
  return { place, data: content, ...(fault ? { fault: `${fault.pointer} ${fault.detail}` } : {}) };
}

const BOOKKEEPING = new Set(['id', 'version', 'created', 'updated', 'data']);

function readCsv(text: string, delimiter = text.split('\n', 1)[0]!.includes(';') ? ';' : ','): Row[] {
  const records: Record<string, string>[] = parse(text, {
    columns: true,
    bom: true,
    delimiter,
    skip_empty_lines: true,
  });
  return records.map((record, index) => {
    const data = Object.fromEntries(
      Object.entries(record)
        .filter(([, value]) => value !== '')
        .map(([name, value]) => [name, readCell(value)]),
    );
    const fault = findDataFault(data);
    return { place: `row ${index + 1}`, data, ...(fault ? { fault: fault.detail } : {}) };
  });
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
