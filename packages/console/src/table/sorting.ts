import { formatTerm, parseOrder, QueryError, type OrderTerm } from '@uproar/core';
import type { Column } from './layout';

/** The position of a column in the order, from 1, and its direction; undefined if the order does not contain it. */
export function placeIn(order: string, { key }: Column): { place: number; descending: boolean } | undefined {
  const terms = readOrder(order);
  const at = terms.findIndex((term) => keyOf(term) === key);
  return at === -1 ? undefined : { place: at + 1, descending: terms[at]!.descending };
}

/** The order after a click on a header: ascending, descending, none. With `add` the others stay. */
export function sortBy(order: string, { key, path, meta }: Column, add: boolean): string {
  const terms = readOrder(order);
  const now = terms.find((term) => keyOf(term) === key);
  const next = !now
    ? [{ path: [...path], meta, descending: false }]
    : now.descending
      ? []
      : [{ ...now, descending: true }];
  if (!add) return next.map(formatTerm).join(',');
  if (!now) return [...terms, ...next].map(formatTerm).join(',');
  return terms
    .flatMap((term) => (term === now ? next : term))
    .map(formatTerm)
    .join(',');
}

function keyOf(term: OrderTerm): string {
  return formatTerm({ ...term, descending: false });
}

function readOrder(order: string): OrderTerm[] {
  try {
    return order === '' ? [] : parseOrder(order);
  } catch (error) {
    if (error instanceof QueryError) return [];
    throw error;
  }
}
