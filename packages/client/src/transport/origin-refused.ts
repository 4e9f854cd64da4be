import type { Problem } from '@uproar/protocol';
import { PROBLEM_TYPE_PREFIX } from '@uproar/protocol/problem-error';

/**
 * The problem of a page whose origin the store does not allow. Browsers do not report this; it follows from which
 * requests succeed.
 */
export function originRefused(url: string, origin: string): Problem {
  return {
    type: `${PROBLEM_TYPE_PREFIX}origin-refused`,
    title: 'Pages of this origin are not allowed',
    status: 403,
    detail: `The store at ${url} answers, but does not allow pages of ${origin}. Start it with --allow-origin ${origin}.`,
  };
}
