import { parse, type CsvError } from 'csv-parse/browser/esm/sync';

/** What separates the values of a line. */
export type Separator = ',' | ';' | '\t' | '|';
export const SEPARATORS: readonly Separator[] = [',', ';', '\t', '|'];

/** A line of a CSV file (RFC 4180), which may be several lines where line breaks are quoted. */
export interface CsvRecord {
  /** The number of its first line in the file, from 1. */
  line: number;
  /** Its values by the names of the heading; undefined where it could not be read. */
  values?: ReadonlyMap<string, string>;
  /** The fault of the record. */
  fault?: string;
}

/** The number of lines used to detect the separator. */
const LOOKED_AT = 20;
const LOOKED_AT_CHARACTERS = 65_536;

/** A quoted value that is longer is taken for one whose quote was not closed. */
const MAX_QUOTED_LINES = 200;

/**
 * Reads CSV with a header row. A record that cannot be read has a fault; the others are still read.
 *
 * @param separator the separator; detected if not given
 * @throws {Error} with a message for people, if the header row cannot be read
 */
export function readCsv(
  text: string,
  separator: Separator = findSeparator(text),
): { records: CsvRecord[]; separator: Separator; notes: string[] } {
  const [heading, ...lines] = readLines(text.replace(/^\uFEFF/, ''), separator);
  if (!heading) throw new Error('The file is empty.');
  if ('fault' in heading) throw new Error(`The heading cannot be read: ${heading.fault}`);
  const { names, notes } = nameColumns(heading.cells);
  const records = lines.map((line): CsvRecord => {
    if ('fault' in line) return line;
    const { cells } = line;
    const values = new Map(names.map((name, column) => [name, cells[column] ?? '']));
    if (cells.slice(names.length).every((cell) => cell === '')) return { line: line.line, values };
    return { line: line.line, values, fault: `It has ${cells.length} values, but the heading has ${names.length}.` };
  });
  return { records, separator, notes };
}

type Line = { line: number; cells: string[] } | { line: number; fault: string };

function readLines(text: string, separator: Separator): Line[] {
  try {
    const read = parse(text, { ...options(separator), info: true }) as unknown as {
      info: { lines: number };
      record: string[];
    }[];
    return read.map(({ info, record }) => ({ line: info.lines - breaksIn(record), cells: record }));
  } catch {
    return readLineByLine(text, separator);
  }
}

function breaksIn(cells: readonly string[]): number {
  return cells.reduce((sum, cell) => sum + cell.split('\n').length - 1, 0);
}

/** Reads a file with quoting errors line by line, and skips lines that cannot be read. */
function readLineByLine(text: string, separator: Separator): Line[] {
  const physical = text.split(/\r?\n/);
  const found: Line[] = [];
  for (let at = 0; at < physical.length;) {
    const line = at + 1;
    const last = endOfRecord(physical, at);
    const record = physical.slice(at, last + 1).join('\n');
    if (record.trim() === '') {
      at++;
      continue;
    }
    const cells = parseRecord(record, separator);
    if (Array.isArray(cells)) {
      found.push({ line, cells });
      at = last + 1;
    } else {
      // The fault of the line itself, if several lines were read as one.
      const alone = last > at ? parseRecord(physical[at]!, separator) : cells;
      found.push({ line, fault: Array.isArray(alone) ? 'It is not CSV.' : explain(alone) });
      at++;
    }
  }
  return found;
}

function parseRecord(record: string, separator: Separator): string[] | CsvError {
  try {
    return (parse(record, options(separator)) as string[][])[0]!;
  } catch (error) {
    return error as CsvError;
  }
}

/** The last line of the record that begins at a line: the first one up to which there is an even number of quotes. */
function endOfRecord(lines: readonly string[], from: number): number {
  let isOpen = false;
  for (let at = from; at < Math.min(lines.length, from + MAX_QUOTED_LINES); at++) {
    if ((lines[at]!.split('"').length - 1) % 2 === 1) isOpen = !isOpen;
    if (!isOpen) return at;
  }
  return from;
}

function explain({ code }: CsvError): string {
  if (code === 'CSV_QUOTE_NOT_CLOSED') return 'A quote is not closed.';
  if (code === 'CSV_INVALID_CLOSING_QUOTE') return 'There is text after the closing quote of a value.';
  if (code === 'INVALID_OPENING_QUOTE') return 'A quote stands in the middle of a value that does not begin with one.';
  return 'It is not CSV.';
}

function options(separator: Separator): { delimiter: string; relax_column_count: true; skip_empty_lines: true } {
  return { delimiter: separator, relax_column_count: true, skip_empty_lines: true };
}

/** The separator that gives the same number of values, more than one, in most of the first lines. */
function findSeparator(text: string): Separator {
  const sample = text.slice(0, LOOKED_AT_CHARACTERS);
  const isWhole = sample.length === text.length;
  let best: { separator: Separator; share: number; width: number } = { separator: ',', share: 0, width: 0 };
  for (const separator of SEPARATORS) {
    const lines = readLines(isWhole ? sample : sample.slice(0, sample.lastIndexOf('\n') + 1), separator);
    const widths = lines.slice(0, LOOKED_AT).map((line) => ('cells' in line ? line.cells.length : 0));
    const width = widths[0] ?? 0;
    const share = width > 1 ? widths.filter((other) => other === width).length / widths.length : 0;
    if (share > best.share || (share === best.share && width > best.width)) best = { separator, share, width };
  }
  return best.separator;
}

/** The names of the columns. One that occurs again gets a number, so that no value replaces another. */
function nameColumns(heading: readonly string[]): { names: string[]; notes: string[] } {
  const taken = new Set(heading);
  const names: string[] = [];
  const notes: string[] = [];
  for (const [index, given] of heading.entries()) {
    let name = given.trim() === '' ? `column ${index + 1}` : given;
    for (let count = 2; names.includes(name); count++) if (!taken.has(`${given} ${count}`)) name = `${given} ${count}`;
    if (name !== given) {
      const why = given.trim() === '' ? 'has no name' : `is called “${given}” like another one`;
      notes.push(`Column ${index + 1} ${why}: its field is “${name}”.`);
    }
    names.push(name);
  }
  return { names, notes };
}
