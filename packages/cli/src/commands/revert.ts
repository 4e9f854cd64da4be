import type { Document, Store } from '@uproar/client';
import { keepEnd } from '@uproar/core';
import type { JournalPage } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseDocumentAddress, parseSeq } from '../arguments/address.js';
import { describeFields } from '../output/describe-change.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson } from '../output/output.js';

interface Options extends StoreOptions {
  to?: string;
  json?: boolean;
}

/** `uproar revert`: puts a document back as it was. */
export function addRevert(program: Command): void {
  withStoreOptions(program.command('revert'))
    .summary('restore an earlier state of a document')
    .description(
      'Restores the state of a document at a seq, or before its last write, as a new commit. Deletes the document if it did not exist then. ' +
        'Stops if someone else writes the document meanwhile. "uproar journal balloons/bl-17" lists the seqs.',
    )
    .argument('<address>', 'balloons/bl-17')
    .option('--to <seq>', 'the seq; default: before the last write')
    .option('--json', 'print the result as JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar journal balloons/bl-17\n  uproar revert balloons/bl-17\n  uproar revert balloons/bl-17 --to 1842',
    )
    .action((address: string, options: Options) => {
      const { collection, id } = parseDocumentAddress(address);
      return useStore(options, async (store) => {
        const at = options.to === undefined ? await findBeforeLast(store, address) : parseSeq(options.to);
        const documents = store.collection(collection);
        const now = await documents.get(id);
        const then = await documents.get(id, { at });
        if (!now && !then)
          throw new CommandError(`${address} did not exist then and does not exist now.`, EXIT.notFound);
        const same = now && then && JSON.stringify(now.data) === JSON.stringify(then.data);
        let version = now?.version ?? 0;
        if (!then) {
          await documents.delete(id, { ifVersion: version });
          version = 0;
        } else if (!same) {
          version = await documents.put(id, then.data, { ifVersion: version, ...keepEnd(now) });
        }
        if (options.json) printJson({ address, version, changed: !same });
        else report(address, now, then, version);
      });
    });
}

/** The seq before the last write of a document, from the journal. */
async function findBeforeLast(store: Store, address: string): Promise<number> {
  const query = new URLSearchParams({ doc: address, before: 'now', limit: '1' });
  const { events } = await store.fetch<JournalPage>(`/v1/journal?${query}`);
  if (events[0]) return events[0].seq - 1;
  throw new CommandError(`The journal has no write of ${address}.`, EXIT.notFound);
}

function report(address: string, now: Document | undefined, then: Document | undefined, version: number): void {
  if (!then) process.stdout.write(`${pc.green('deleted')} ${address}  ${pc.dim('it did not exist then')}\n`);
  else if (now?.version === version) process.stdout.write(`${address} is already in this state; nothing was written\n`);
  else {
    const what = describeFields(now, { ...then, version });
    process.stdout.write(`${pc.green('restored')} ${address}  ${pc.dim(`version ${version}`)}  ${what}\n`);
  }
}
