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

/** A dry run shows so many of the documents that would alter. */
const SHOWN = 5;

/** `uproar rewrite`: changes many documents in the same way. */
export function addRewrite(program: Command): void {
  const collect = (value: string, earlier: string[] = []) => [...earlier, value];
  withStoreOptions(program.command('rewrite'))
    .summary('change many documents in the same way')
    .description(
      'Changes all documents that meet a condition: splits a field, mends a type, fills in what is missing. A part at a time, each written once; where it stops it can go on. ' +
        'Documents that somebody else writes meanwhile are looked at again. Try it with --dry-run first.',
    )
    .argument('<collection>', 'balloons')
    .option('--where <condition>', 'only documents that meet this')
    .option('--set <assignment>', 'field = expression, from the document as it was; may be said again', collect)
    .option('--merge <data>', 'JSON Merge Patch (RFC 7396): a JSON object, @file, or - for standard input')
    .option('--adjust <changes>', 'adjustments: a JSON object of JSON Pointers, or @file')
    .option('--dry-run', 'only look: show what would alter, and write nothing')
    .option('--resume', 'go on where an earlier job stopped')
    .option('--no-resume', 'begin anew although an earlier job stopped')
    .option(
      '--progress <file>',
      'where to keep how far it is (uproar-rewrite-COLLECTION.progress unless told otherwise)',
    )
    .option('--json', 'print the outcome as JSON')
    .addHelpText(
      'after',
      `\nExamples:\n  uproar rewrite balloons --where "altitude IS NULL" --merge '{"altitude":0}' --dry-run\n` +
        `  uproar rewrite balloons --set "altitude = number(altitude)"\n` +
        `  uproar rewrite crews --set "first = part(lead, ' ', 1)" --set "last = part(lead, ' ', -1)" --merge '{"lead":null}'\n` +
        `  uproar rewrite flights --where "day = 3" --adjust '{"/distanceKm":{"max":1}}'`,
    )
    .action((address: string, options: Options) => {
      const { collection, id } = parseAddress(address);
      if (id !== undefined) throw new CommandError('A collection is rewritten, not a document; see edit.', EXIT.usage);
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
    `${verb} ${written.toLocaleString('en')} ${noun} of ${collection}, ${looked.toLocaleString('en')} looked at\n`,
  );
}
