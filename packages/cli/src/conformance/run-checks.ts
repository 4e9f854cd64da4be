import { CHECKS, type Check } from './checks.js';
import type { Recording } from './recording.js';
import { ConformanceError, Trial, type TrialOptions } from './trial.js';

/** The outcome of one check. */
export interface CheckOutcome {
  check: string;
  title: string;
  state: 'passed' | 'remark' | 'failed';
  durationMs: number;
  /** What was wrong, or could be better. */
  message?: string;
  /** More about it: differences, or what the program wrote to its standard error. */
  details?: readonly string[];
  /** The end of the exchange with the store, if the check failed. */
  exchange?: readonly string[];
}

/** A report shows so many connections, and of each so many lines from its beginning and its end. */
const SHOWN_CONNECTIONS = 2;
const FIRST_LINES = 5;
const LAST_LINES = 12;

/**
 * Runs checks against a program, each with a store of its own.
 *
 * @param names the checks to run; all of them, if left out
 * @param writes whether the program also sends the commits that it reads from its standard input
 */
export async function* runChecks(
  options: TrialOptions,
  writes: boolean,
  names?: readonly string[],
): AsyncGenerator<CheckOutcome> {
  for (const check of CHECKS) {
    if (names ? names.includes(check.name) : writes || !check.writes) yield await runCheck(check, options);
  }
}

async function runCheck(check: Check, options: TrialOptions): Promise<CheckOutcome> {
  const { name, title } = check;
  const beganMs = Date.now();
  const trial = await Trial.open(options);
  const outcome = (more: Omit<CheckOutcome, 'check' | 'title' | 'durationMs'>): CheckOutcome => ({
    check: name,
    title,
    durationMs: Date.now() - beganMs,
    ...more,
  });
  try {
    const remark = await check.run(trial);
    return typeof remark === 'string' ? outcome({ state: 'remark', message: remark }) : outcome({ state: 'passed' });
  } catch (error) {
    if (!(error instanceof ConformanceError)) throw error;
    const exchange = trial.link.recordings.slice(-SHOWN_CONNECTIONS).flatMap(describe);
    return outcome({ state: 'failed', message: error.message, details: error.details, exchange });
  } finally {
    await trial.end();
  }
}

/** The beginning and the end of what passed on a connection. */
function describe(recording: Recording): string[] {
  const lines = recording.describe();
  const shown =
    lines.length > FIRST_LINES + LAST_LINES + 1
      ? [
          ...lines.slice(0, FIRST_LINES),
          `  … ${lines.length - FIRST_LINES - LAST_LINES} lines`,
          ...lines.slice(-LAST_LINES),
        ]
      : lines;
  return [`connection ${recording.number}`, ...shown];
}
