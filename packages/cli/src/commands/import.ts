import { formatBytes } from '@uproar/core';
import { Option, type Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { importFile, type ImportFormat, type ImportResult, type OnConflict } from '../import/import-file.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson } from '../output/output.js';
import { ProgressBar } from '../output/progress-bar.js';

interface Options extends StoreOptions {
  format?: ImportFormat;
  idField?: string;
  onConflict: OnConflict;
  skipBad?: boolean;
  dryRun?: boolean;
  resume?: boolean;
  json?: boolean;
}

/** `uproar import`: brings a file into a collection. */
export function addImport(program: Command): void {
  withStoreOptions(program.command('import'))
    .summary('import the documents of a file into a collection')
    .description(
      'Imports NDJSON, a JSON array, or CSV with a header row into a collection. In CSV, the types of columns are detected.\n' +
        'A field "id" becomes the id of the document; documents without one get generated ids.',
    )
    .argument('<collection>', 'balloons')
    .argument('<file>', 'a file, or - for standard input')
    .addOption(new Option('--format <format>', 'default: by the file name').choices(['ndjson', 'json', 'csv']))
    .option('--id-field <name>', 'the field that holds the id')
    .addOption(
      new Option('--on-conflict <action>', 'what to do with existing documents')
        .choices(['replace', 'keep', 'fail'])
        .default('replace'),
    )
    .option('--skip-bad', 'skip bad rows and list their lines, instead of stopping at the first')
    .option('--dry-run', 'only check: list all bad rows and write nothing')
    .option('--resume', 'continue an interrupted import of the file')
    .option('--no-resume', 'start again, ignoring an interrupted import')
    .option('--json', 'print the result as JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar import balloons balloons.ndjson\n  uproar import crews crews.csv --id-field number --dry-run\n  uproar import flights flights.ndjson --on-conflict keep --resume\n  gzip -dc flights.ndjson.gz | uproar import flights - --format ndjson',
    )
    .action((address: string, file: string, options: Options) => {
      const { collection, id } = parseAddress(address);
      if (id !== undefined) throw new CommandError('import needs a collection, not a document.', EXIT.usage);
      return useStore(options, async (store) => {
        const started = performance.now();
        const bar = new ProgressBar('{done} of {size}', 'documents');
        let result: ImportResult;
        try {
          result = await importFile(store, collection, file, {
            ...options,
            onProgress: (read, total, documents) =>
              bar.update(read, total, { done: formatBytes(read), size: formatBytes(total) }, documents),
          });
        } finally {
          bar.stop();
        }
        report(result, collection, options, (performance.now() - started) / 1000);
      });
    });
}

function report(result: ImportResult, collection: string, options: Options, seconds: number): void {
  const { written, kept, bad, badCount } = result;
  if (badCount > 0) process.exitCode = EXIT.usage;
  if (options.json) {
    printJson({ collection, ...result, dryRun: options.dryRun ?? false });
    return;
  }
  for (const { line, reason } of bad) process.stderr.write(`${pc.yellow(`line ${line}`)} ${reason}\n`);
  if (badCount > bad.length) process.stderr.write(pc.dim(`and ${badCount - bad.length} more bad rows\n`));
  const parts = [
    `${written} ${written === 1 ? 'document' : 'documents'} into ${collection}`,
    ...(kept > 0 ? [`${kept} kept as they were`] : []),
    ...(badCount > 0 ? [`${badCount} bad ${badCount === 1 ? 'row' : 'rows'} left out`] : []),
  ];
  const verb = options.dryRun ? pc.cyan('would import') : pc.green('imported');
  const rate = `${seconds.toFixed(1)} s, ${Math.round(written / Math.max(seconds, 0.001))} a second`;
  const showRate = !options.dryRun && written > 0;
  process.stdout.write(`${verb} ${parts.join(', ')}${showRate ? `  ${pc.dim(rate)}` : ''}\n`);
}
