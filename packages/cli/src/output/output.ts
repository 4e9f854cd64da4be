import { stripVTControlCharacters } from 'node:util';
import type { JsonValue, TypedDocument as Document } from '@uproar/client';
import { formatDuration } from '@uproar/core';
import Table from 'cli-table3';
import pc from 'picocolors';
import cliTruncate from 'cli-truncate';
import stringWidth from 'string-width';

const NO_BORDERS = Object.fromEntries(
  [
    'top',
    'top-mid',
    'top-left',
    'top-right',
    'bottom',
    'bottom-mid',
    'bottom-left',
    'bottom-right',
    'left',
    'left-mid',
    'mid',
    'mid-mid',
    'right',
    'right-mid',
  ].map((part) => [part, '']),
);

/** What stands for a field that a document does not have. */
const MISSING = pc.dim('–');

/** The columns a terminal has; output that goes elsewhere is not cut. */
export function outputWidth(): number {
  return process.stdout.isTTY ? process.stdout.columns : Number.POSITIVE_INFINITY;
}

/** A line that fits the terminal, with its colours. */
export function cutLine(line: string): string {
  return process.stdout.isTTY ? cliTruncate(line, outputWidth()) : line;
}

/** Prints rows under headings, aligned, and no wider than the terminal. */
export function printTable(headings: string[], rows: string[][]): void {
  process.stdout.write(formatTable(headings, rows).join('\n') + '\n');
}

/** Columns that are cut keep at least this much. */
const MIN_COLUMN = 8;

/** Rows under headings, aligned, as lines that are no wider than `width`; the widest columns are cut first. */
export function formatTable(headings: string[], rows: string[][], width = outputWidth()): string[] {
  const widths = headings.map((heading, column) =>
    rows.reduce((widest, row) => Math.max(widest, stringWidth(row[column]!)), stringWidth(heading)),
  );
  const total = () => widths.reduce((sum, one) => sum + one + 2, -2);
  while (total() > width) {
    const widest = widths.indexOf(Math.max(...widths));
    if (widths[widest]! <= MIN_COLUMN) break;
    widths[widest] = Math.max(MIN_COLUMN, widths[widest]! - (total() - width));
  }
  const cut = (cell: string, column: number) =>
    stringWidth(cell) > widths[column]! ? cliTruncate(cell, widths[column]!) : cell;
  const table = new Table({
    head: headings.map((heading, column) => pc.dim(cut(heading, column))),
    chars: { ...NO_BORDERS, middle: '  ' },
    style: { head: [], border: [], 'padding-left': 0, 'padding-right': 0 },
    colAligns: headings.map((_, column) => (rows.every((row) => isNumber(row[column]!)) ? 'right' : 'left')),
  });
  table.push(...rows.map((row) => row.map(cut)));
  const lines = table
    .toString()
    .split('\n')
    .map((line) => line.replace(/ +$/, ''));
  return Number.isFinite(width) ? lines.map((line) => cliTruncate(line, width)) : lines;
}

/** Numbers, with a unit or without, stand at the right. */
function isNumber(cell: string): boolean {
  const text = stripVTControlCharacters(cell);
  return /^-?[\d,]+(\.\d+)?( ?([kMGT]?B|ms|s|min))?(\/s)?$/.test(text) || cell === MISSING;
}

/**
 * Prints documents as a table with the fields that most of them have, as many as the terminal is wide.
 *
 * @param ids false for groups of a summary, whose ids say nothing
 */
export function printDocuments(documents: readonly Document[], ids = true): void {
  const { lines, left } = formatDocuments(documents, { ids });
  process.stdout.write(lines.join('\n') + '\n');
  if (left > 0) process.stdout.write(pc.dim(`${left} more fields; --json shows all\n`));
}

/** How documents are laid out as a table. */
export interface TableOptions {
  width?: number;
  /** Whether ids and versions are shown. */
  ids?: boolean;
  /** How a cell is to look; the field is empty for the id. */
  accent?: (document: Document, field: string, cell: string) => string;
  /** A column behind that of a field. */
  extra?: { after: string; heading: string; cell: (document: Document) => string };
}

/** Documents as the lines of a table no wider than `width`, and how many columns found no room. */
export function formatDocuments(
  documents: readonly Document[],
  { width = outputWidth(), ids = true, accent = (_document, _field, cell) => cell, extra }: TableOptions = {},
): { lines: string[]; left: number } {
  const make = (heading: string, cell: (document: Document) => string) => column(heading, documents.map(cell));
  const columns = [
    ...(ids ? [make('id', (document) => accent(document, '', document.id))] : []),
    ...(ids && documents[0]?.version !== undefined ? [make('version', ({ version }) => String(version))] : []),
    ...Object.keys(documents[0]?.related ?? {}).map((name) =>
      make(`→ ${name}`, (document) => accent(document, name, formatRelated(document.related?.[name]))),
    ),
    ...namesByUse(documents).flatMap((name) => [
      make(name, (document) => accent(document, name, formatValue(document.data[name]))),
      ...(extra?.after === name ? [make(extra.heading, extra.cell)] : []),
    ]),
  ];
  let used = 0;
  const shown = columns.filter((column) => (used += column.width + 2) <= width + 2);
  const lines = formatTable(
    shown.map(({ heading }) => heading),
    documents.map((_, row) => shown.map(({ cells }) => cells[row]!)),
    width,
  );
  return { lines, left: columns.length - shown.length };
}

function namesByUse(documents: readonly Document[]): string[] {
  const names = new Map<string, number>();
  for (const { data } of documents) for (const name of Object.keys(data)) names.set(name, (names.get(name) ?? 0) + 1);
  return [...names].sort((a, b) => b[1] - a[1]).map(([name]) => name);
}

/** Related documents by their ids. */
function formatRelated(related: Document | null | undefined | Document[]): string {
  if (!Array.isArray(related)) return related?.id ?? MISSING;
  return related.length === 0 ? MISSING : formatValue(related.map(({ id }) => id).join(', '));
}

function column(heading: string, cells: string[]) {
  const width = cells.reduce((widest, cell) => Math.max(widest, stringWidth(cell)), stringWidth(heading));
  return { heading, cells, width };
}

/** A value on one line, cut where it is long. */
export function formatValue(value: JsonValue | undefined, limit = 32): string {
  if (value === undefined) return MISSING;
  const text = typeof value === 'string' ? value : JSON.stringify(value);
  const line = text.replace(/\s+/g, ' ');
  return line.length > limit ? `${line.slice(0, limit - 1)}…` : line;
}

/** Prints one document for people: bookkeeping first, then the data. */
export function printDocument(address: string, document: Document): void {
  const { version, created, updated, expires, data } = document;
  const end = expires === undefined ? '' : `, expires ${expires}`;
  process.stdout.write(
    `${pc.bold(address)}  ${pc.dim(`version ${version}, created ${created}, updated ${updated}${end}`)}\n`,
  );
  process.stdout.write(JSON.stringify(data, null, 2) + '\n');
}

/** Prints a value as one line of NDJSON. */
export function printJson(value: unknown): void {
  process.stdout.write(JSON.stringify(value) + '\n');
}

/** A time seen from now: `5 min ago`, `in 30 days`. */
export function formatAge(time: string, nowMs = Date.now()): string {
  const differenceMs = nowMs - Date.parse(time);
  return differenceMs >= 0 ? `${formatDuration(differenceMs)} ago` : `in ${formatDuration(-differenceMs)}`;
}
