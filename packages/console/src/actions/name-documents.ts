/** Documents that a notice names. */
const NAMED = 4;

/** The document that is meant, or how many. */
export function countOf(items: readonly { id: string }[]): string {
  return items.length === 1 ? items[0]!.id : `${items.length.toLocaleString()} documents`;
}

/** The first documents by their ids, and how many more there are. */
export function nameAll(items: readonly { id: string }[]): string {
  const named = items.slice(0, NAMED).map(({ id }) => id);
  const rest = items.length - named.length;
  return named.join(', ') + (rest > 0 ? ` and ${rest.toLocaleString()} more` : '');
}
