import { formatBytes } from '@uproar/core';
import type { Command } from 'commander';
import pc from 'picocolors';
import { printReport } from './check.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { printJson } from '../output/output.js';
import { ProgressBar } from '../output/progress-bar.js';

interface Options {
  data: string;
  replace?: boolean;
  json?: boolean;
}

/** `uproar restore`: makes a store of a backup. */
export function addRestore(program: Command): void {
  program
    .command('restore')
    .summary('restore a store from a backup')
    .description(
      'Checks a backup and creates a store from it, in a data directory that no service has open. The store gets a new id, so ' +
        'devices start again with the whole state.',
    )
    .argument('<file>', 'a backup')
    .option('--data <directory>', 'the data directory (or UPROAR_DATA)', process.env.UPROAR_DATA ?? 'uproar-data')
    .option('--replace', 'move an existing store aside')
    .option('--json', 'print the result as JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar restore festival.sqlite --data festival-again\n  uproar restore festival.sqlite --data my-data --replace',
    )
    .action(restore);
}

async function restore(file: string, options: Options): Promise<void> {
  const { checkStore, restoreBackup } = await import('@uproar/service');
  const report = checkStore(file);
  if (!report.sound) {
    printReport(file, report, options.json ?? false);
    throw new CommandError('The backup is damaged; nothing was restored.', EXIT.unsound, 'Use an earlier one.');
  }
  const bar = new ProgressBar('{done} of {size} copied', 'bytes');
  let aside: string | undefined;
  try {
    aside = await restoreBackup(file, options.data, {
      replace: options.replace,
      onProgress: (done, size) => bar.update(done, size, { done: formatBytes(done), size: formatBytes(size) }),
    });
  } finally {
    bar.stop();
  }
  if (options.json) {
    printJson({ data: options.data, seq: report.seq, documents: report.documents, aside: aside ?? null });
    return;
  }
  process.stdout.write(
    `${pc.green('restored')} ${report.documents} documents at seq ${report.seq} into ${options.data}\n` +
      (aside ? pc.dim(`the previous store is in ${aside}\n`) : '') +
      pc.dim(`uproar serve --data ${options.data} starts it\n`),
  );
}
