import { createReadStream } from 'node:fs';
import { setMember, type JsonObject, type JsonValue } from '@uproar/core';
import { CsvError, parse, type Info } from 'csv-parse';
import { RowError, type Row } from './rows.js';

/** What every cell of a column that is not empty can be read as. */
type ColumnType = 'number' | 'boolean' | 'json' | 'text';

/**
 * Reads CSV (RFC 4180) with a header row. A column is numbers, booleans or JSON when each of its cells is; anything
 * else is text. Empty cells are left out. A header with dots makes nested objects: `pilot.name`.
 *
 * The file is read twice: the first time to learn the columns' types.
 */
export async function* readCsv(path: string): AsyncGenerator<Row> {
  const types = new Map<string, ColumnType>();
  for await (const { cells } of readCells(path)) {
    for (const [name, cell] of cells) if (cell !== '') types.set(name, narrower(types.get(name), cell));
  }
  for await (const { line, cells } of readCells(path)) {
    const value: JsonObject = {};
    let error: string | undefined;
    for (const [name, cell] of cells)
      if (cell !== '') error ??= place(value, name.split('.'), convert(cell, types.get(name)!));
    yield error === undefined ? { line, value } : { line, error };
  }
}

async function* readCells(path: string): AsyncGenerator<{ line: number; cells: [string, string][] }> {
  const parser = createReadStream(path).pipe(parse({ bom: true, info: true, skip_empty_lines: true }));
  let header: string[] | undefined;
  try {
    for await (const { record, info } of parser as AsyncIterable<{ record: string[]; info: Info }>) {
      if (!header) {
        header = record.map((name) => name.trim());
        checkHeader(header);
      } else yield { line: info.lines, cells: record.map((cell, index) => [header![index]!, cell]) };
    }
  } catch (error) {
    if (error instanceof CsvError) throw new RowError(Number(error.lines ?? 0), error.message);
    throw error;
  }
}

function checkHeader(names: string[]): void {
  const empty = names.indexOf('');
  if (empty !== -1) throw new RowError(1, `Column ${empty + 1} has no name in the first line.`);
  const doubled = names.find((name, index) => names.indexOf(name) !== index);
  if (doubled !== undefined) throw new RowError(1, `Two columns are called "${doubled}".`);
}

/** The type that holds for the cells seen before and for this one. */
function narrower(before: ColumnType | undefined, cell: string): ColumnType {
  const type = typeOf(cell);
  return before === undefined || before === type ? type : 'text';
}

function typeOf(cell: string): ColumnType {
  if (cell === 'true' || cell === 'false') return 'boolean';
  // Leading zeros and digits a double cannot hold are kept as text: they are codes, not quantities.
  if (/^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(cell)) {
    const value = Number(cell);
    const exact = /[.eE]/.test(cell) ? Number.isFinite(value) : Number.isSafeInteger(value);
    return exact ? 'number' : 'text';
  }
  if (/^[[{]/.test(cell)) {
    try {
      JSON.parse(cell);
      return 'json';
    } catch {
      return 'text';
    }
  }
  return 'text';
}

function convert(cell: string, type: ColumnType): JsonValue {
  if (type === 'number') return Number(cell);
  if (type === 'boolean') return cell === 'true';
  return type === 'json' ? (JSON.parse(cell) as JsonValue) : cell;
}

/** Puts a value in. Returns why that cannot be, where it cannot. */
function place(object: JsonObject, names: string[], value: JsonValue): string | undefined {
  let target = object;
  for (const name of names.slice(0, -1)) {
    if (!Object.hasOwn(target, name)) setMember(target, name, {});
    const inner = target[name]!;
    if (typeof inner !== 'object' || inner === null || Array.isArray(inner)) {
      return `The column "${names.join('.')}" needs "${name}" to be an object, but it is a column too.`;
    }
    target = inner;
  }
  setMember(target, names.at(-1)!, value);
  return undefined;
}
