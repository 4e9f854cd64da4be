import type { ProblemName } from '@uproar/protocol';
import { PROBLEM_TYPE_PREFIX, ProblemError } from '@uproar/protocol/problem-error';

/** Whether an error is the problem with that name. */
export function isProblem(error: unknown, name: ProblemName): error is ProblemError {
  return error instanceof ProblemError && error.problem.type === PROBLEM_TYPE_PREFIX + name;
}

/** Whether the store refuses something for good. After other errors, the same request can succeed later. */
export function isFinal(error: unknown): error is ProblemError {
  return error instanceof ProblemError && error.problem.status < 500 && !isProblem(error, 'too-many-requests');
}
