import { WorkLimitError } from '@uproar/core';
import { problemError } from '@uproar/protocol';

/** The problem of a query whose conditions take too much work. */
export function tooMuchWork(steps: number): Error {
  return problemError(
    'query-too-costly',
    `The conditions of this query take more than ${steps.toLocaleString('en-GB')} steps of work. Query fewer documents, or use an index or a simpler condition.`,
    { budget: 'work' },
  );
}

/** The problem of watches whose conditions take too much work as documents change. */
export function tooMuchLiveWork(): Error {
  return problemError(
    'query-too-costly',
    'Evaluating the conditions of your watches takes more work than you may use. Watch fewer documents, or use simpler conditions.',
    { budget: 'live-work' },
  );
}

/** The problem of a state or a document that takes too many bytes. */
export function tooManyBytes(what: string, bytes: number): Error {
  return problemError(
    'query-too-costly',
    `${what} takes more than ${bytes.toLocaleString('en-GB')} bytes. Request fewer documents, fewer fields, or fewer includes.`,
    { budget: 'bytes' },
  );
}

/** The error as the client sees it: too much work on one document is a problem of the query. */
export function asLimitProblem(error: unknown): unknown {
  return error instanceof WorkLimitError ? problemError('query-too-costly', error.message, { budget: 'work' }) : error;
}
