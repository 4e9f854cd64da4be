import { ProblemError, type Problem } from '@uproar/protocol';
import type { $ZodIssue } from 'zod/v4/core';
import { asLimitProblem } from '../limits/costs.js';
import { storageProblem } from '../store/index.js';

/** The problem that an error stands for: of the disk, or of a query that takes too much work. */
export function asProblem(error: unknown): Problem | undefined {
  const costly = asLimitProblem(error);
  return costly instanceof ProblemError ? costly.problem : storageProblem(error);
}

/** Puts the first issue of a failed Zod check into words, with the place as a JSON Pointer. */
export function describeIssue(issues: readonly $ZodIssue[]): { detail: string; pointer: string } {
  const issue = deepest(issues[0]!);
  return { detail: issue.message, pointer: issue.path.map((key) => `/${String(key)}`).join('') };
}

/**
 * Among the branches of a union, the one that knows all given members describes the error best. If there is none, the
 * message of the union itself is used, or else the branch that got furthest.
 */
function deepest(issue: $ZodIssue): $ZodIssue {
  if (issue.code !== 'invalid_union') return issue;
  const meant = issue.errors.filter(
    (branch) => !branch.some(({ code, path }) => code === 'unrecognized_keys' && path.length === 0),
  );
  if (meant.length === 0 && issue.message !== 'Invalid input') return issue;
  const candidates = (meant.length > 0 ? meant : issue.errors).flatMap((branch) =>
    branch.map((inner) => deepest(inner)),
  );
  const best = candidates.sort((a, b) => b.path.length - a.path.length)[0];
  return best ? { ...best, path: [...issue.path, ...best.path] } : issue;
}
