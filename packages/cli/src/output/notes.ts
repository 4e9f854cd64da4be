import type { QueryParts, Store } from '@uproar/client';
import pc from 'picocolors';

/** Prints warnings of the store to standard error, so that standard output stays readable by scripts. */
export function printNotes(notes: readonly string[] = []): void {
  for (const note of notes) process.stderr.write(`${pc.yellow('note')} ${note}\n`);
}

/** Has the store say which names in a query were probably meant otherwise, for commands whose answers have no place for that. */
export async function noteMistakes(store: Store, collection: string, parts: QueryParts = {}): Promise<void> {
  const { where, after: _, limit: __, ...rest } = parts;
  // Limited to one document, so that it is cheap for every condition.
  const one = "meta('id') = '-'";
  const asked = { ...rest, where: typeof where === 'string' ? `(${where}) AND ${one}` : one };
  const found = await store
    .collection(collection)
    .list(asked as never)
    // The command itself reports errors.
    .catch(() => undefined);
  printNotes(found?.notes);
}
