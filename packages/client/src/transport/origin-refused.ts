import type { Problem } from '@uproar/protocol';
import { PROBLEM_TYPE_PREFIX } from '@uproar/protocol/problem-error';

/** The problem of a page that the store does not let read its answers. The browser does not say so; it follows from what it lets through. */
export function originRefused(url: string, origin: string): Problem {
  return {
    type: `${PROBLEM_TYPE_PREFIX}origin-refused`,
    title: 'Pages of this origin are not allowed',
    status: 403,
    detail: `The store at ${url} answers, but does not allow pages of ${origin}. Start it with --allow-origin ${origin}.`,
  };
}
