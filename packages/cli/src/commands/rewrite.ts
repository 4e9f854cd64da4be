import type { Store } from '@uproar/client';
import type { Adjustments } from '@uproar/core';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { describeFields } from '../output/describe-change.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { noteMistakes } from '../output/notes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { cutLine, printJson } from '../output/output.js';
import { ProgressBar } from '../output/progress-bar.js';
import { readData } from '../arguments/read-data.js';
import { openJob, RewriteJob, type Rewritten } from '../rewrite/job.js';
import { Rewriting } from '../rewrite/rewriting.js';
import { showMistakes } from './query.js';

interface Options extends StoreOptions {
  where?: string;
  set?: string[];
  merge?: string;
  adjust?: string;
  dryRun?: boolean;
  resume?: boolean;
  progress?: string;
  json?: boolean;
}

/** The number of changed documents that a dry run shows. */
const SHOWN = 5;

/** `uproar rewrite`: changes many documents in the same way. */
export function addRewrite(program: Command): void {
  const collect = (value: string, earlier: string[] = []) => [...earlier, value];
  withStoreOptions(program.command('rewrite'))
    .summary('make the same change in many documents')
    .description(
      'Changes all documents that match a condition: for example splits a field, corrects a type, or fills in missing values. Works in batches, writes each document once, and can be resumed. ' +
        'Documents that someone else changes meanwhile are read again. Try it with --dry-run first.',
    )
    .argument('<collection>', 'balloons')
    .option('--where <condition>', 'only documents that match this condition')
    .option('--set <assignment>', 'field = expression, computed from the old document; repeatable', collect)
    .option('--merge <data>', 'JSON Merge Patch (RFC 7396): a JSON object, @file, or - for standard input')
    .option('--adjust <changes>', 'adjustments: a JSON object of JSON Pointers, or @file')
    .option('--dry-run', 'show the changes and write nothing')
    .option('--resume', 'continue an interrupted job')
    .option('--no-resume', 'start again, ignoring an interrupted job')
    .option('--progress <file>', 'progress file (default: uproar-rewrite-COLLECTION.progress)')
    .option('--json', 'print the result as JSON')
    .addHelpText(
      'after',
      `\nExamples:\n  uproar rewrite balloons --where "altitude IS NULL" --merge '{"altitude":0}' --dry-run\n` +
        `  uproar rewrite balloons --set "altitude = number(altitude)"\n` +
        `  uproar rewrite crews --set "first = part(lead, ' ', 1)" --set "last = part(lead, ' ', -1)" --merge '{"lead":null}'\n` +
        `  uproar rewrite flights --where "day = 3" --adjust '{"/distanceKm":{"max":1}}'`,
    )
    .action((address: string, options: Options) => {
      const { collection, id } = parseAddress(address);
      if (id !== undefined)
        throw new CommandError('rewrite needs a collection; edit changes one document.', EXIT.usage);
      return useStore(options, (store) => showMistakes(options, () => rewrite(store, collection, options)));
    });
}

async function rewrite(store: Store, collection: string, options: Options): Promise<void> {
  const { where, set, dryRun = false } = options;
  const rewriting = new Rewriting({
    set,
    merge: options.merge === undefined ? undefined : readData(options.merge),
    adjust: options.adjust === undefined ? undefined : (readData(options.adjust) as unknown as Adjustments),
  });
  const file = options.progress ?? `uproar-rewrite-${collection}.progress`;
  const what = JSON.stringify([
    store.url,
    collection,
    where ?? null,
    set ?? null,
    options.merge ?? null,
    options.adjust ?? null,
  ]);
  const state = openJob(file, what, dryRun ? false : options.resume);
  const job = new RewriteJob(store, { from: collection, where }, rewriting, file, state);
  const counted = await store
    .collection(collection)
    .summary('count()')
    .where(where ?? 'TRUE')
    .get();
  const total = Number(counted?.data['count()'] ?? 0);
  const bar = new ProgressBar('{looked} of {total}', 'documents');
  const examples: Rewritten[] = [];
  const onProgress = ({ looked }: { looked: number }) =>
    bar.update(Math.min(looked, total), total, {
      looked: looked.toLocaleString('en'),
      total: total.toLocaleString('en'),
    });
  try {
    if (dryRun) await job.preview((one) => examples.length < SHOWN && examples.push(one), onProgress);
    else await job.run(onProgress);
  } finally {
    bar.stop();
  }
  const { looked, written } = job.state;
  if (looked === 0) await noteMistakes(store, collection, { where });
  if (options.json) return printJson({ collection, looked, written, dryRun });
  for (const { document, data } of examples) {
    process.stdout.write(
      cutLine(`  ${pc.bold(document.id)}  ${describeFields(document, { ...document, data })}`) + '\n',
    );
  }
  const verb = dryRun ? pc.cyan('would rewrite') : pc.green('rewrote');
  const noun = written === 1 ? 'document' : 'documents';
  process.stdout.write(
    `${verb} ${written.toLocaleString('en')} ${noun} of ${collection}, ${looked.toLocaleString('en')} read\n`,
  );
}
