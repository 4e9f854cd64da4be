import type { JsonObject, JsonValue } from '@uproar/client';
import { findDataFault, getMember, joinName, splitName } from '@uproar/core';
import { setValueAt, valueAt } from '../table/fields.js';
import type { Row } from './import-rows.js';

/** What a column becomes. */
export interface ColumnTarget {
  /** The name of the column in the file. */
  column: string;
  /** The field it becomes, with dots for objects; empty: it is left out. */
  field: string;
  /** `as read`: numbers, yes/no and JSON are recognised. */
  type: ColumnType;
}

export const COLUMN_TYPES = ['as read', 'text', 'number', 'yes/no', 'time', 'list of texts'] as const;
export type ColumnType = (typeof COLUMN_TYPES)[number];

const TRUE = ['true', 'yes', 'y', '1', 'x'];
const FALSE = ['false', 'no', 'n', '0', ''];

/**
 * A first mapping: each column becomes a field of its name; of a known field's name if they differ only in capital letters,
 * spaces and marks.
 *
 * @param known the fields of the collection
 */
export function proposeMapping(columns: readonly string[], known: readonly string[]): ColumnTarget[] {
  const plain = (name: string) => name.toLowerCase().replace(/[^\p{L}\p{N}]/gu, '');
  const byPlain = new Map(known.map((name) => [plain(name), name]));
  return columns.map((column) => {
    const same = known.includes(column) ? column : byPlain.get(plain(column));
    return { column, field: same ?? joinName([column]), type: 'as read' };
  });
}

/** The row with its columns mapped to fields. What cannot be converted is a fault of the row. */
export function mapRow(row: Row, mapping: readonly ColumnTarget[]): Row {
  if (row.fault !== undefined) return row;
  const data: JsonObject = {};
  for (const { column, field, type } of mapping) {
    if (field === '') continue;
    const value = getMember(row.data, column);
    const cell = row.cells?.get(column);
    if (value === undefined && (cell ?? '') === '') continue;
    const converted = convert(value, cell, type);
    if ('fault' in converted) return { ...row, fault: `${column}: ${converted.fault}` };
    if (!put(data, splitName(field), converted.value))
      return { ...row, fault: `${field}: another column stands in its place.` };
  }
  // Fields of documents that no column stands for, as they occur late in the file, keep their names.
  const columns = new Set(mapping.map(({ column }) => column));
  for (const [name, value] of Object.entries(row.data)) {
    if (!columns.has(name) && !put(data, [name], value))
      return { ...row, fault: `${name}: another column stands in its place.` };
  }
  const found = findDataFault(data);
  return { ...row, data, ...(found ? { fault: `${found.pointer} ${found.detail}`.trim() } : {}) };
}

/** Why a mapping cannot be used; empty if it can. */
export function findMappingFault(mapping: readonly ColumnTarget[]): string {
  const seen = new Set<string>();
  for (const { column, field } of mapping) {
    if (field === '') continue;
    let path: string[];
    try {
      path = splitName(field);
    } catch {
      return `“${field}” (from ${column}) is not the name of a field.`;
    }
    const key = JSON.stringify(path);
    if (seen.has(key)) return `Two columns become the field ${field}.`;
    seen.add(key);
  }
  return seen.size === 0 ? 'All columns are left out.' : '';
}

function convert(
  value: JsonValue | undefined,
  cell: string | undefined,
  type: ColumnType,
): { value: JsonValue } | { fault: string } {
  if (type === 'as read') return { value: value! };
  const text = cell ?? (typeof value === 'string' ? value : JSON.stringify(value));
  const shown = `“${text.slice(0, 40)}”`;
  if (type === 'text') return { value: text };
  if (type === 'list of texts') {
    return {
      value: text
        .split(/[,;|]/)
        .map((item) => item.trim())
        .filter((item) => item !== ''),
    };
  }
  if (type === 'number') {
    const plain = text.trim().replace(/(?<=\d)[ '’\u00a0\u202f](?=\d{3}\b)/g, '');
    const number = Number(/^-?\d+,\d+$/.test(plain) ? plain.replace(',', '.') : plain);
    return plain === '' || !Number.isFinite(number) ? { fault: `${shown} is not a number.` } : { value: number };
  }
  const lower = text.trim().toLowerCase();
  if (type === 'yes/no') {
    if (TRUE.includes(lower)) return { value: true };
    return FALSE.includes(lower) ? { value: false } : { fault: `${shown} is neither yes nor no.` };
  }
  const time = Date.parse(text);
  return Number.isNaN(time) ? { fault: `${shown} is not a time.` } : { value: new Date(time).toISOString() };
}

/** Sets a field that no column has set before. */
function put(data: JsonObject, path: readonly string[], value: JsonValue): boolean {
  return valueAt(data, path) === undefined && setValueAt(data, path, value);
}
