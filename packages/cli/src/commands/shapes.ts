import type { ShapeReport } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { noteMistakes } from '../output/notes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { formatValue, printJson, printTable } from '../output/output.js';
import { showMistakes } from './query.js';

interface Options extends StoreOptions {
  where?: string;
  sample?: string;
  json?: boolean;
}
type Field = ShapeReport['fields'][number];

/** A field whose share in recent documents differs by more than this is reported as new or disappearing. */
const SHIFT = 0.3;

/** `uproar shapes`: what shapes the documents of a collection really have. */
export function addShapes(program: Command): void {
  withStoreOptions(program.command('shapes'))
    .summary('report the fields of the documents of a collection')
    .description(
      'Lists the fields: how many documents have each, types, ranges and examples; rare fields that may be misspelt; and fields that only recent ' +
        'or only older documents have.',
    )
    .argument('<collection>', 'balloons')
    .option('--where <condition>', 'only documents that match this condition')
    .option('--sample <number>', 'about how many documents to read (default 50000)')
    .option('--json', 'print everything as one JSON object')
    .addHelpText('after', `\nExamples:\n  uproar shapes balloons\n  uproar shapes flights --where "day > 2" --json`)
    .action((address: string, options: Options) => {
      const { collection, id } = parseAddress(address);
      if (id !== undefined) throw new CommandError('shapes needs a collection, not a document.', EXIT.usage);
      return useStore(options, (store) =>
        showMistakes(options, async () => {
          const query = new URLSearchParams();
          if (options.where !== undefined) query.set('where', options.where);
          if (options.sample !== undefined) query.set('sample', options.sample);
          const report = await store.fetch<ShapeReport>(`/v1/shapes/${collection}?${query}`);
          if (report.documents === 0) await noteMistakes(store, collection, { where: options.where });
          if (options.json) printJson(report);
          else print(collection, report);
        }),
      );
    });
}

function print(collection: string, { documents, recent, fields }: ShapeReport): void {
  if (documents === 0) {
    process.stderr.write(pc.dim(`no documents in ${collection}\n`));
    return;
  }
  printTable(
    ['field', 'in', 'types', 'range', 'examples'],
    fields.map((field) => [
      field.rare ? pc.yellow(`${field.name} ?`) : field.name,
      `${((100 * field.documents) / documents).toFixed(field.documents < documents / 100 ? 1 : 0)} %`,
      describeTypes(field),
      describeRange(field),
      field.examples.map((example) => formatValue(example as never, 20)).join(', '),
    ]),
  );
  process.stdout.write('\n');
  for (const { name, documents: have, near } of fields.filter(({ rare }) => rare)) {
    const meant = near.length > 0 ? ` Was ${near.join(' or ')} meant?` : '';
    process.stdout.write(`${pc.yellow('rare')}   ${name}: in ${have} of ${documents} documents.${meant}\n`);
  }
  for (const field of fields.filter((one) => kindsOf(one).length > 1)) {
    process.stdout.write(`${pc.red('mixed')}  ${field.name}: ${describeTypes(field)}\n`);
  }
  for (const { name, recently, before } of fields.filter((one) => Math.abs(one.recently - one.before) > SHIFT)) {
    const trend = recently > before ? pc.green('new   ') : pc.cyan('old   ');
    process.stdout.write(
      `${trend} ${name}: in ${percent(recently)} of the ${recent} newest documents, ${percent(before)} of the others\n`,
    );
  }
  process.stdout.write(pc.dim(`${documents} documents read\n`));
}

function kindsOf({ types }: Field): string[] {
  return Object.keys(types).filter((type) => type !== 'null');
}

function describeTypes({ types }: Field): string {
  const entries = Object.entries(types).sort((a, b) => b[1] - a[1]);
  if (entries.length === 1) return entries[0]![0];
  return entries.map(([type, count]) => `${count} ${type}`).join(', ');
}

function describeRange({ numbers, times, lengths }: Field): string {
  if (numbers) return `${numbers.min} … ${numbers.max}`;
  if (times) return `${times.min.slice(0, 16)} … ${times.max.slice(0, 16)}`;
  return lengths ? pc.dim(`${lengths.min} … ${lengths.max} characters`) : '';
}

function percent(share: number): string {
  return `${Math.round(100 * share)} %`;
}
