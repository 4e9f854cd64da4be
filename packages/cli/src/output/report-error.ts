import { ConnectionError, ProblemError, type Problem } from '@uproar/client';
import pc from 'picocolors';
import { CommandError, EXIT } from './exit-codes.js';

/** Prints an error to standard error. Returns the exit code. */
export function reportError(error: unknown): number {
  const { message, advice, exitCode } = explain(error);
  process.stderr.write(`${pc.red('error')} ${message}\n`);
  if (advice) process.stderr.write(`      ${pc.dim(advice)}\n`);
  return exitCode;
}

function explain(error: unknown): { message: string; advice?: string | undefined; exitCode: number } {
  if (error instanceof CommandError) return error;
  if (error instanceof RangeError) return { message: error.message, exitCode: EXIT.usage };
  if (error instanceof ConnectionError) {
    return {
      message: error.message,
      advice: 'Is the store running, and is the address right? Give it with --url or UPROAR_URL.',
      exitCode: EXIT.unreachable,
    };
  }
  if (error instanceof ProblemError) {
    return {
      message: describeProblem(error.problem),
      advice: error.problem.type.endsWith('/key-missing')
        ? 'Pass --key, or set UPROAR_KEY to the key that the first start printed.'
        : undefined,
      exitCode: exitCodeFor(error.problem.status),
    };
  }
  if (error instanceof Error && (error as { kind?: unknown }).kind === 'damaged') {
    return { message: error.message, exitCode: EXIT.unsound };
  }
  return { message: error instanceof Error ? error.message : String(error), exitCode: EXIT.failed };
}

function describeProblem({ title, detail, pointer }: Problem): string {
  return `${title}. ${detail}${pointer ? ` (at ${pointer})` : ''}`;
}

function exitCodeFor(status: number): number {
  if (status === 401 || status === 403) return EXIT.refused;
  if (status === 404) return EXIT.notFound;
  if (status === 409 || status === 412) return EXIT.conflict;
  return status === 400 || status === 422 ? EXIT.usage : EXIT.failed;
}
