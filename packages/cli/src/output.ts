import type { Document, JsonValue } from '@uproar/client';
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

/** Prints rows under headings, aligned. */
export function printTable(headings: string[], rows: string[][]): void {
  const table = new Table({
    head: headings.map((heading) => pc.dim(heading)),
    chars: { ...NO_BORDERS, middle: '  ' },
    style: { head: [], border: [], 'padding-left': 0, 'padding-right': 0 },
    colAligns: headings.map((_, column) => (rows.every((row) => isNumber(row[column]!)) ? 'right' : 'left')),
  });
  table.push(...rows);
  process.stdout.write(table.toString().replace(/ +$/gm, '') + '\n');
}

/** Numbers, with a unit or without, stand at the right. */
function isNumber(cell: string): boolean {
  return /^-?\d+(\.\d+)?( [kMGT]?B)?$/.test(cell) || cell === MISSING;
}

/** Prints documents as a table with the fields that most of them have, as many as the terminal is wide. */
export function printDocuments(documents: readonly Document[]): void {
  const fields = new Map<string, number>();
  for (const { data } of documents) for (const name of Object.keys(data)) fields.set(name, (fields.get(name) ?? 0) + 1);
  const byUse = [...fields].sort((a, b) => b[1] - a[1]).map(([name]) => name);
  const columns = [
    column(
      'id',
      documents.map(({ id }) => id),
    ),
    ...(documents[0]?.version === undefined
      ? []
      : [
          column(
            'version',
            documents.map(({ version }) => String(version)),
          ),
        ]),
    ...byUse.map((name) =>
      column(
        name,
        documents.map(({ data }) => formatValue(data[name])),
      ),
    ),
  ];
  let width = 0;
  const shown = columns.filter((column) => (width += column.width + 2) <= outputWidth() + 2);
  printTable(
    shown.map(({ heading }) => heading),
    documents.map((_, row) => shown.map(({ cells }) => cells[row]!)),
  );
  const left = columns.length - shown.length;
  if (left > 0) process.stdout.write(pc.dim(`${left} more fields; --json shows all\n`));
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
  const { version, created, updated, data } = document;
  process.stdout.write(
    `${pc.bold(address)}  ${pc.dim(`version ${version}, created ${created}, updated ${updated}`)}\n`,
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
