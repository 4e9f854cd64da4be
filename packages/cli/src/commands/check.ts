import { statSync } from 'node:fs';
import type { CheckReport } from '@uproar/service';
import type { Command } from 'commander';
import pc from 'picocolors';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { printJson } from '../output/output.js';

/** `uproar check`: looks through a store or a backup for what should not be. */
export function addCheck(program: Command): void {
  program
    .command('check')
    .summary('check a store or a backup for faults')
    .description(
      'Checks a store on this machine, running or not, or a backup: the file, the documents, the counts, the journal, ' +
        'and the indexes.',
    )
    .argument('[place]', 'a data directory or a backup (or UPROAR_DATA)', process.env.UPROAR_DATA ?? 'uproar-data')
    .option('--json', 'print the result as JSON')
    .addHelpText('after', '\nExamples:\n  uproar check my-data\n  uproar check festival.sqlite --json')
    .action(async (place: string, options: { json?: boolean }) => {
      const { checkStore, databaseFile } = await import('@uproar/service');
      const file = isDirectory(place) ? databaseFile(place) : place;
      if (isDirectory(file) === undefined) {
        throw new CommandError(`${place} contains no store.`, EXIT.usage, 'Name a data directory or a backup.');
      }
      const report = checkStore(file);
      printReport(place, report, options.json ?? false);
      if (!report.sound) process.exitCode = EXIT.unsound;
    });
}

/** Prints what a check found. */
export function printReport(place: string, report: CheckReport, json: boolean): void {
  if (json) {
    printJson({ place, ...report });
    return;
  }
  const { storeId, seq, documents, results } = report;
  process.stdout.write(`${pc.bold(place)}  ${pc.dim(`store ${storeId}, seq ${seq}, ${documents} documents`)}\n`);
  for (const { what, faults } of results) {
    process.stdout.write(`${faults.length === 0 ? pc.green('sound ') : pc.red('faulty')}  ${what}\n`);
    for (const fault of faults) process.stdout.write(`        ${fault}\n`);
  }
}

/** Undefined where there is nothing. */
function isDirectory(path: string): boolean | undefined {
  return statSync(path, { throwIfNoEntry: false })?.isDirectory();
}
