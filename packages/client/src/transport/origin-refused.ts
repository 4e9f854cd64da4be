import type { Problem } from '@uproar/protocol';
import { PROBLEM_TYPE_PREFIX } from '@uproar/protocol/problem-error';

/**
 * The problem of a page whose origin the store does not allow; undefined if nothing answers, or if the page is of the store's
 * origin. Browsers do not report this; it follows from which requests succeed.
 *
 * @param probe makes a request whose answer may not be read; rejects where nothing answers at all
 */
export async function findOriginRefused(url: string, probe: () => Promise<unknown>): Promise<Problem | undefined> {
  const origin = (globalThis as { location?: { origin: string } }).location?.origin;
  if (origin === undefined || origin === url) return undefined;
  try {
    await probe();
  } catch {
    return undefined;
  }
  return {
    type: `${PROBLEM_TYPE_PREFIX}origin-refused`,
    title: 'Pages of this origin are not allowed',
    status: 403,
    detail: `The store at ${url} answers, but does not allow pages of ${origin}. Start it with --allow-origin ${origin}.`,
  };
}
