import type { Document, JsonValue } from '@uproar/client';
import { formatCell, valueAt, type Field } from '../../table/fields.js';

/** A column of cards: the documents whose field has a value. */
export interface CardColumn {
  key: string;
  /** The value; undefined for documents without the field. */
  value: JsonValue | undefined;
  title: string;
  documents: Document[];
}

/** More columns than this are not drawn. */
export const MOST_COLUMNS = 12;

/**
 * Documents by the value of a field. Columns stay where they are, also when their last card leaves.
 *
 * @param known the keys and values of the columns that were shown before
 */
export function groupCards(
  documents: readonly Document[],
  path: readonly string[],
  known: ReadonlyMap<string, JsonValue | undefined>,
): CardColumn[] {
  const columns = new Map<string, CardColumn>();
  const add = (value: JsonValue | undefined): CardColumn => {
    const key = keyOf(value);
    const title = value === undefined ? `no ${path.at(-1)}` : formatCell(value) || '(empty text)';
    const column: CardColumn = { key, value, title, documents: [] };
    columns.set(key, column);
    return column;
  };
  for (const value of known.values()) add(value);
  const fresh = new Map<string, CardColumn>();
  for (const document of documents) {
    const value = valueAt(document.data, path);
    const key = keyOf(value);
    let column = columns.get(key) ?? fresh.get(key);
    if (!column) {
      column = add(value);
      columns.delete(key);
      fresh.set(key, column);
    }
    column.documents.push(document);
  }
  const titled = [...fresh.values()].sort(
    (a, b) => Number(a.value === undefined) - Number(b.value === undefined) || (a.title < b.title ? -1 : 1),
  );
  return [...columns.values(), ...titled];
}

const keyOf = (value: JsonValue | undefined) => (value === undefined ? '' : JSON.stringify(value));

/** Whether the values of a field are so few that they can be columns. */
export function canBeColumns({ type, path }: Field, documents: readonly Document[]): boolean {
  if (type !== 'text' && type !== 'yes/no') return false;
  const values = new Set<string>();
  for (const { data } of documents) {
    values.add(keyOf(valueAt(data, path)));
    if (values.size > MOST_COLUMNS) return false;
  }
  return values.size > 1 && values.size < documents.length;
}
