// What the pages for the conformance kit share.
import type { ConnectionState, QueryParts, View } from '@uproar/client';

/** What the kit gives to a page. */
export const given = globalThis as unknown as { key: string; query: string; refused: (problem: string) => void };

/** The query of the kit, as the client takes it. */
export function wireQuery(): QueryParts & { from: string } {
  const [from, parameters] = given.query.split('?') as [string, string?];
  const { limit = '500', ...parts } = Object.fromEntries(new URLSearchParams(parameters)) as Record<string, string>;
  delete parts.ordered;
  return { from, ...parts, limit: limit === 'none' ? 'none' : Number(limit) };
}

/** Prints what a view shows; ends the program if the store refuses it. */
export function show({ state, documents, error }: View<unknown>, connection: ConnectionState): void {
  if (connection.name === 'refused') given.refused(connection.problem.title);
  else if (state === 'failed') given.refused(error?.title ?? 'failed');
  // eslint-disable-next-line no-console
  else if (state !== 'loading') console.log(`state ${JSON.stringify(documents)}`);
}
