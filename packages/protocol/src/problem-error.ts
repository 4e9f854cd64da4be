import type { Problem } from './problems.js';

/** What the `type` of every problem begins with; the rest is its name. Relative to the address of the service. */
export const PROBLEM_TYPE_PREFIX = '/problems/';

/** A problem as an error that can be thrown. */
export class ProblemError extends Error {
  override name = 'ProblemError';
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}
