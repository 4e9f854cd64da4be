import type { Document, Store } from '@uproar/client';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress, parseSeq } from '../arguments/address.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printDocument, printDocuments, printJson } from '../output/output.js';

interface Options extends StoreOptions {
  limit: string;
  after?: string;
  at?: string;
  json?: boolean;
}

/** `uproar get`: one document, or the first ones of a collection. */
export function addGet(program: Command): void {
  withStoreOptions(program.command('get'))
    .summary('print one document or the documents of a collection')
    .description('Prints one document, or the documents of a collection in the order of their ids.')
    .argument('<address>', 'balloons/bl-17, or balloons')
    .option('--limit <number>', 'maximum number of documents', '20')
    .option('--after <cursor>', 'continue after the previous listing')
    .option('--at <seq>', 'print the state at this seq')
    .option('--json', 'print documents as NDJSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar get balloons/bl-17\n  uproar get balloons/bl-17 --at 120\n  uproar get crews --limit 5\n  uproar get flights --json | jq .data.status',
    )
    .action((address: string, options: Options) => useStore(options, (store) => get(store, address, options)));
}

async function get(store: Store, text: string, options: Options): Promise<void> {
  const { collection, id } = parseAddress(text);
  if (id !== undefined) {
    const at = options.at === undefined ? undefined : parseSeq(options.at);
    const document = await store.collection(collection).get(id, at === undefined ? {} : { at });
    if (!document) {
      const what =
        at === undefined ? `The document ${text} does not exist.` : `The document ${text} did not exist at seq ${at}.`;
      throw new CommandError(what, EXIT.notFound);
    }
    if (options.json) printJson(document);
    else printDocument(text, document);
    return;
  }
  if (options.at !== undefined) throw new CommandError('--at needs one document.', EXIT.usage);
  const { documents, next, notes } = await store
    .collection(collection)
    .list({ limit: Number(options.limit), after: options.after });
  for (const note of notes ?? []) process.stderr.write(`${pc.yellow('note')} ${note}\n`);
  if (options.json) documents.forEach(printJson);
  else if (documents.length > 0) printDocuments(documents as Document[]);
  if (next) process.stderr.write(pc.dim(`more: --after ${next}\n`));
}
