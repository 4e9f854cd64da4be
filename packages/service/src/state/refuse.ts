import { ProblemError } from '@uproar/protocol';
import type { Refused } from './outcomes.js';

/** The result of `apply`, or the problem that it throws, as the outcome of a record that was not applied. */
export function refusalOf<Result>(apply: () => Result): Result | Refused {
  try {
    return apply();
  } catch (error) {
    if (error instanceof ProblemError) return { problem: error };
    throw error;
  }
}
