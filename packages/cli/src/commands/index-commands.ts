import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { noteMistakes } from '../output/notes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson, printTable } from '../output/output.js';

interface IndexInfo {
  id: number;
  collection: string;
  fields: string;
  ready: boolean;
}

type Options = StoreOptions & { json?: boolean };

/** `uproar index`: lists, creates and removes secondary indexes. */
export function addIndex(program: Command): void {
  const index = program
    .command('index')
    .summary('list, create and remove indexes')
    .description('Secondary indexes on fields. query --explain suggests useful ones.')
    .addHelpText('after', '\nExample:\n  uproar index create balloons status,-altitude');
  withStoreOptions(index.command('list', { isDefault: true }))
    .description('Lists the indexes.')
    .addHelpText('after', '\nExample:\n  uproar index list')
    .option('--json', 'print one JSON object per line')
    .action((options: Options) =>
      useStore(options, async (store) => {
        const { indexes } = await store.fetch<{ indexes: IndexInfo[] }>('/v1/indexes');
        if (options.json) indexes.forEach(printJson);
        else if (indexes.length === 0)
          process.stdout.write(
            `There are no indexes. Create one with: uproar index create balloons status,-altitude\n`,
          );
        else
          printTable(
            ['id', 'collection', 'fields', 'state'],
            indexes.map(({ id, collection, fields, ready }) => [
              String(id),
              collection,
              fields,
              ready ? 'ready' : 'being filled',
            ]),
          );
      }),
    );
  withStoreOptions(index.command('create'))
    .description('Creates an index and waits until it is filled.')
    .argument('<collection>', 'balloons')
    .argument('<fields>', 'status,-altitude')
    .option('--json', 'print JSON')
    .addHelpText('after', '\nExample:\n  uproar index create balloons status,-altitude')
    .action((address: string, fields: string, options: Options) => {
      const { collection } = parseAddress(address);
      return useStore(options, async (store) => {
        await noteMistakes(store, collection, { order: fields });
        const made = await store.post<IndexInfo>('/v1/indexes', { collection, fields });
        if (options.json) printJson(made);
        else process.stdout.write(`${pc.green('created')} index ${made.id} of ${made.collection} on ${made.fields}\n`);
      });
    });
  withStoreOptions(index.command('remove'))
    .description('Removes an index.')
    .addHelpText('after', '\nExample:\n  uproar index remove 3')
    .argument('<id>', 'the id from "index list"')
    .action((id: string, options: Options) => {
      if (!/^\d{1,9}$/.test(id))
        throw new CommandError(`"${id}" is not the id of an index.`, EXIT.usage, 'uproar index list prints them.');
      return useStore(options, async (store) => {
        await store.request('DELETE', `/v1/indexes/${id}`);
        process.stdout.write(`${pc.green('removed')} index ${id}\n`);
      });
    });
}
