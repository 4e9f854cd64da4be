import { ConnectionError, ProblemError } from '@uproar/client';

/** Says in a sentence for people why a call to the store failed. */
export function describeFailure(error: unknown): string {
  if (error instanceof ProblemError) return error.problem.detail;
  if (error instanceof ConnectionError) return 'The store does not respond.';
  return error instanceof Error ? error.message : String(error);
}
