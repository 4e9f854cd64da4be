import { SingleBar } from 'cli-progress';
import { Option, type Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../address.js';
import { CommandError, EXIT } from '../exit-codes.js';
import { importFile, type ImportFormat } from '../import/import-file.js';
import { useStore, withStoreOptions, type StoreOptions } from '../open-store.js';
import { formatBytes } from '../output.js';

interface Options extends StoreOptions {
  format?: ImportFormat;
  idField?: string;
}

/** `uproar import`: brings a file into a collection. */
export function addImport(program: Command): void {
  withStoreOptions(program.command('import'))
    .summary('bring the documents of a file into a collection')
    .description(
      'Brings the documents of a file into a collection: NDJSON, a JSON array, or CSV with a header row, whose numbers, booleans and JSON are recognised column by column.\n' +
        'A field "id" becomes the id of the document; documents without one get generated ids.',
    )
    .argument('<collection>', 'balloons')
    .argument('<file>', 'a file, or - for standard input')
    .addOption(new Option('--format <format>', "told by the file's ending").choices(['ndjson', 'json', 'csv']))
    .option('--id-field <name>', 'the field that holds the id')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar import balloons balloons.ndjson\n  uproar import crews crews.csv --id-field number\n  gzip -dc flights.ndjson.gz | uproar import flights - --format ndjson',
    )
    .action((address: string, file: string, options: Options) => {
      const { collection, id } = parseAddress(address);
      if (id !== undefined)
        throw new CommandError('A file is brought into a collection, not into a document.', EXIT.usage);
      return useStore(options, async (store) => {
        const started = performance.now();
        const bar = progressBar();
        let count: number;
        try {
          count = await importFile(store, collection, file, { ...options, onProgress: bar.update });
        } finally {
          bar.stop();
        }
        const seconds = (performance.now() - started) / 1000;
        const rate = Math.round(count / Math.max(seconds, 0.001));
        process.stdout.write(
          `${pc.green('imported')} ${count} ${count === 1 ? 'document' : 'documents'} into ${collection}  ${pc.dim(`${seconds.toFixed(1)} s, ${rate} a second`)}\n`,
        );
      });
    });
}

/** A progress bar on standard error, where that is a terminal. */
function progressBar() {
  const bar = new SingleBar({
    format: `{bar} {percentage}%  {done} of {size}  {documents} documents  {eta_formatted} left`,
    stream: process.stderr,
    hideCursor: true,
    clearOnComplete: true,
    barsize: 30,
  });
  let started = false;
  return {
    update: (readBytes: number, totalBytes: number, documents: number) => {
      if (totalBytes === 0) return;
      const payload = { done: formatBytes(readBytes), size: formatBytes(totalBytes), documents };
      if (started) bar.update(readBytes, payload);
      else bar.start(totalBytes, readBytes, payload);
      started = true;
    },
    stop: () => {
      if (started) bar.stop();
    },
  };
}
