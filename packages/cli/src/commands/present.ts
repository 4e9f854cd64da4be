import type { Command } from 'commander';
import pc from 'picocolors';
import { parseDocumentAddress } from '../arguments/address.js';
import { readData } from '../arguments/read-data.js';
import { openAt, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { stopped } from '../connect/run-service.js';

/** `uproar present`: writes a document that lives as long as the command runs. */
export function addPresent(program: Command): void {
  withStoreOptions(program.command('present'))
    .summary('write a document that lasts while this command runs')
    .description('Writes a document that the store deletes when this command ends, or when its connection is lost.')
    .argument('<address>', 'online/truck-3')
    .argument('[data]', 'a JSON object, @file, or - for standard input', '{}')
    .addHelpText('after', `\nExample:\n  uproar present online/truck-3 '{"crew":"c-3"}'`)
    .action((address: string, argument: string, options: StoreOptions) => present(address, argument, options));
}

async function present(text: string, argument: string, options: StoreOptions): Promise<void> {
  const { collection, id } = parseDocumentAddress(text);
  const data = readData(argument);
  const store = openAt(options);
  const stop = stopped();
  try {
    await store.ready();
    const held = await store.collection(collection).present(id, data);
    process.stdout.write(`${pc.green('present')} ${held.address}  ${pc.dim('until Ctrl-C')}\n`);
    await stop;
    await held.leave();
  } finally {
    store.close();
  }
}
