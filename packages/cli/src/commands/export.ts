import { createWriteStream, existsSync, mkdirSync, renameSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { once } from 'node:events';
import type { CollectionListing } from '@uproar/protocol';
import type { Store } from '@uproar/client';
import { Option, type Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { noteMistakes } from '../output/notes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { ProgressBar } from '../output/progress-bar.js';
import { queryParts, withQueryOptions, type QueryOptions } from '../arguments/query-options.js';
import { showMistakes } from './query.js';

type Format = 'ndjson' | 'json' | 'csv';

interface Options extends StoreOptions, QueryOptions {
  format: Format;
  out?: string;
  all?: boolean;
  force?: boolean;
}

/** `uproar export`: writes the documents of collections or queries into files. */
export function addExport(program: Command): void {
  withQueryOptions(withStoreOptions(program.command('export')))
    .summary('write the documents of a collection or query to a file')
    .description(
      'Writes the documents of one state of the store, in bounded memory: as NDJSON, a JSON array or CSV. ' +
        'NDJSON and JSON include metadata and can be imported.',
    )
    .argument('[collection]', 'balloons')
    .option('--all', 'all collections, one file each; --out is a directory')
    .addOption(new Option('--format <format>', 'the form').choices(['ndjson', 'json', 'csv']).default('ndjson'))
    .option('--out <file>', 'the file to write; default: standard output')
    .option('--force', 'replace existing files')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar export balloons --out balloons.ndjson\n' +
        `  uproar export flights --where "passengers >= 4" --fields start,passengers --format csv --out flights.csv\n` +
        '  uproar export --all --out festival',
    )
    .action((address: string | undefined, options: Options) => {
      if ((address === undefined) !== (options.all ?? false)) {
        throw new CommandError('Name one collection, or use --all.', EXIT.usage);
      }
      return useStore(options, (store) =>
        showMistakes(options, () =>
          address === undefined ? exportAll(store, options) : exportOne(store, address, options),
        ),
      );
    });
}

async function exportAll(store: Store, options: Options): Promise<void> {
  if (options.out === undefined) throw new CommandError('With --all, name a directory with --out.', EXIT.usage);
  if (options.where ?? options.order ?? options.limit ?? options.fields) {
    throw new CommandError('--all exports whole collections; a query needs one collection.', EXIT.usage);
  }
  mkdirSync(options.out, { recursive: true });
  const { documents } = await store.fetch<CollectionListing>('/v1/collections');
  for (const { id } of documents) {
    await exportOne(store, id, { ...options, out: join(options.out, `${id}.${options.format}`) });
  }
}

async function exportOne(store: Store, address: string, options: Options): Promise<void> {
  const { collection, id } = parseAddress(address);
  if (id !== undefined) throw new CommandError('export needs a collection; get prints one document.', EXIT.usage);
  const { out, format } = options;
  if (out !== undefined && existsSync(out) && !options.force) {
    throw new CommandError(`${out} is there already.`, EXIT.usage, 'Choose another name, or replace it with --force.');
  }
  const parts = queryParts(options);
  const total = Object.keys(parts).length === 0 ? await countOf(store, collection) : 0;
  const part = out === undefined ? undefined : `${out}.part`;
  const target = part === undefined ? process.stdout : createWriteStream(part, { mode: 0o600 });
  const failed = once(target, 'error').then(([error]) => Promise.reject(error as Error));
  failed.catch(() => undefined);
  const bar = new ProgressBar('{value} documents', 'documents');
  let written = 0;
  try {
    const accept = format === 'csv' ? 'text/csv' : 'application/x-ndjson';
    const body = { from: collection, limit: 'none', ...parts };
    for await (const text of format === 'json'
      ? asArray(store.stream('/v1/query', body, accept))
      : store.stream('/v1/query', body, accept)) {
      written += countLines(text);
      if (!target.write(text)) await Promise.race([once(target, 'drain'), failed]);
      if (part !== undefined) bar.update(Math.min(written, total), total, {});
    }
    if (part !== undefined) {
      target.end();
      await Promise.race([once(target, 'close'), failed]);
      renameSync(part, out!);
    }
  } finally {
    bar.stop();
    if (part !== undefined) rmSync(part, { force: true });
  }
  if (written === 0) await noteMistakes(store, collection, parts);
  if (out === undefined) return;
  // Lines of CSV are not counted: a cell may hold several. An array has two lines more than documents.
  const documents = format === 'json' ? Math.max(0, written - 2) : written;
  const count = format === 'csv' ? '' : `${documents} ${documents === 1 ? 'document' : 'documents'} of `;
  process.stdout.write(`${pc.green('exported')} ${count}${collection} into ${out}\n`);
}

async function countOf(store: Store, collection: string): Promise<number> {
  const { documents } = await store.fetch<CollectionListing>('/v1/collections');
  return documents.find(({ id }) => id === collection)?.data.documents ?? 0;
}

/** Makes lines of NDJSON into one array, a document a line. */
async function* asArray(pieces: AsyncIterable<string>): AsyncGenerator<string> {
  let before = '[\n';
  let rest = '';
  for await (const piece of pieces) {
    const lines = (rest + piece).split('\n');
    rest = lines.pop()!;
    if (lines.length === 0) continue;
    yield before + lines.join(',\n');
    before = ',\n';
  }
  yield before === '[\n' ? '[]\n' : '\n]\n';
}

function countLines(text: string): number {
  let count = 0;
  for (let at = text.indexOf('\n'); at !== -1; at = text.indexOf('\n', at + 1)) count++;
  return count;
}
