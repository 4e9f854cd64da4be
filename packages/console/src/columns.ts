import type { Document, JsonValue } from '@uproar/client';

/** A column of the table: a field of the documents. */
export interface Column {
  name: string;
  /** True when most values are numbers, which then stand at the right. */
  numeric: boolean;
  widthPx: number;
}

/** So many documents tell what columns there are. */
const SAMPLE = 200;
const MAX_COLUMNS = 24;

/** The fields found in the documents, those that most of them have first, otherwise in the order they were met. */
export function findColumns(documents: readonly Document[]): Column[] {
  const fields = new Map<string, { count: number; numbers: number; longest: number }>();
  const step = Math.max(1, Math.floor(documents.length / SAMPLE));
  let sampled = 0;
  for (let index = 0; index < documents.length; index += step) {
    sampled++;
    for (const [name, value] of Object.entries(documents[index]!.data)) {
      const field = fields.get(name) ?? { count: 0, numbers: 0, longest: 0 };
      field.count++;
      if (typeof value === 'number') field.numbers++;
      field.longest = Math.max(field.longest, formatCell(value).length);
      fields.set(name, field);
    }
  }
  return [...fields]
    .sort(([, a], [, b]) => Number(b.count > sampled / 2) - Number(a.count > sampled / 2))
    .slice(0, MAX_COLUMNS)
    .map(([name, { count, numbers, longest }]) => ({
      name,
      numeric: numbers > count / 2,
      widthPx: Math.round(Math.min(230, Math.max(64, longest * 7.4 + 24, name.length * 8.6 + 24))),
    }));
}

/** A value as one line of text. */
export function formatCell(value: JsonValue | undefined): string {
  if (value === undefined) return '';
  if (typeof value === 'string') return value.length > 200 ? `${value.slice(0, 200)}…` : value;
  if (typeof value !== 'object' || value === null) return String(value);
  if (Array.isArray(value)) return JSON.stringify(value).slice(0, 200);
  return JSON.stringify(value).slice(0, 200).replaceAll('"', '');
}

/** The kind of a value, which decides its colour. */
export function kindOf(value: JsonValue | undefined): string {
  if (value === undefined) return 'missing';
  if (value === null) return 'null';
  return typeof value;
}
