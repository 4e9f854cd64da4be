import type { Problem } from './problems.js';

/** What the `type` of every problem begins with; the rest is its name. Relative to the address of the service. */
export const PROBLEM_TYPE_PREFIX = '/problems/';

/** A problem as an error that can be thrown. */
export class ProblemError extends Error {
  override name = 'ProblemError';

  /** Also true for errors of a copy of this class, as files that are bundled apart have one each. */
  static override [Symbol.hasInstance](value: unknown): boolean {
    return value instanceof Error && value.name === 'ProblemError' && 'problem' in value;
  }

  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}
