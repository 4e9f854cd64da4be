import { findNearNames, nearness } from '@uproar/core';
import { CommanderError } from 'commander';
import { EXIT } from './output/exit-codes.js';
import { buildProgram } from './program.js';
import { reportError } from './output/report-error.js';

// Commands that have something to end do so themselves; the others just end, with the cursor shown again.
process.on('SIGINT', () => {
  if (process.listenerCount('SIGINT') > 1) return;
  if (process.stderr.isTTY) process.stderr.write('\x1b[?25h\n');
  process.exit(EXIT.interrupted);
});

// The reader of the output has gone, as with "head": exit without an error.
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code === 'EPIPE') process.exit(EXIT.done);
  throw error;
});

nearness.find = findNearNames;
void run();

async function run(): Promise<void> {
  try {
    await (await buildProgram(process.argv[2])).parseAsync();
  } catch (error) {
    if (error instanceof CommanderError) process.exitCode = error.exitCode === 0 ? EXIT.done : EXIT.usage;
    else process.exitCode = reportError(error);
  }
}
