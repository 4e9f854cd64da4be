import type { Store } from '@uproar/client';
import { formatBytes } from '@uproar/core';
import type { BackupRecord, Erasure, ErasurePreview } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { confirm } from '../output/confirm.js';
import { countOf } from '../output/count-of.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { printJson, printTable } from '../output/output.js';

type Options = StoreOptions & {
  where?: string;
  past?: boolean;
  forgetIds?: boolean;
  reason?: string;
  dryRun?: boolean;
  yes?: boolean;
  wait: boolean;
  json?: boolean;
};

/** What is asked of the store. */
type Form = Pick<Options, 'where' | 'past' | 'forgetIds' | 'reason'> & { doc?: string; collection?: string };

/** How often the state of an erasure is asked for, in milliseconds. */
const LOOK_MS = 250;

/** `uproar erase`: removes documents with their past. */
export function addErase(program: Command): void {
  withStoreOptions(program.command('erase'))
    .summary('remove documents with their past, for good')
    .description(
      'Deletes a document, or all that meet a condition, and empties what the journal, idempotency records and files hold of them, on every node. It cannot be undone. Without an address, lists the erasures.',
    )
    .argument('[address]', 'a document: guests/g-17; or a collection, with --where')
    .option('--where <condition>', 'all documents of the collection that meet this condition (CQL2)')
    .option('--past', 'also documents that met the condition earlier, such as deleted ones')
    .option('--forget-ids', 'also erase the ids; readers of the journal cannot tell then which documents were erased')
    .option('--reason <text>', 'kept with the erasure')
    .option('--dry-run', 'only count')
    .option('--yes', 'do not ask')
    .option('--no-wait', 'do not wait until the files of all nodes are rewritten')
    .option('--json', 'print the result as JSON')
    .addHelpText(
      'after',
      `
Examples:
  uproar erase guests/g-17 --reason "asked for on 12 June"
  uproar erase guests --where "email = 'ada@field.example'" --past --dry-run
  uproar erase guests --where "email = 'ada@field.example'" --past --yes
  uproar erase`,
    )
    .action((address: string | undefined, options: Options) =>
      useStore(options, (store) => (address === undefined ? list(store, options) : erase(store, address, options))),
    );
}

async function erase(store: Store, address: string, options: Options): Promise<void> {
  const form = formFrom(address, options);
  const preview = await store.post<ErasurePreview>('/v1/erasures', { ...form, dryRun: true });
  const number = preview.documents + (form.past || form.doc !== undefined ? preview.earlier : 0);
  if (options.dryRun) {
    if (options.json) return printJson(preview);
    process.stdout.write(`${pc.yellow('dry run')} ${describePreview(preview, form, number)}\n`);
    return;
  }
  if (!options.yes) {
    if (!process.stdin.isTTY) throw new CommandError('Erasing cannot be undone.', EXIT.usage, 'Confirm it with --yes.');
    const question = `Erase ${describePreview(preview, form, number)}? It cannot be undone. [y/N] `;
    if (!(await confirm(question))) throw new CommandError('Nothing was erased.');
  }
  let erasure = await store.post<Erasure>('/v1/erasures', form);
  while (options.wait && erasure.state !== 'done' && erasure.problem === undefined) {
    await new Promise((resolve) => setTimeout(resolve, LOOK_MS));
    erasure = await store.fetch<Erasure>(`/v1/erasures/${erasure.id}`);
  }
  if (options.json) printJson(erasure);
  else print(erasure);
}

function formFrom(address: string, { where, past, forgetIds, reason }: Options): Form {
  const { collection, id } = parseAddress(address);
  const rest = { ...(forgetIds ? { forgetIds } : {}), ...(reason === undefined ? {} : { reason }) };
  if (id !== undefined) {
    if (where !== undefined || past)
      throw new CommandError('--where and --past go with a collection, not with a document.', EXIT.usage);
    return { doc: address, ...rest };
  }
  if (where === undefined) {
    throw new CommandError(
      `"${address}" names a collection.`,
      EXIT.usage,
      `Say which documents: --where CONDITION, or ${address}/ID.`,
    );
  }
  return { collection, where, ...(past ? { past } : {}), ...rest };
}

function describePreview({ documents, earlier }: ErasurePreview, { doc, past }: Form, number: number): string {
  if (doc !== undefined) return documents > 0 ? doc : `${doc}, which was deleted before`;
  const others = `${earlier} more met the condition earlier`;
  const hint = earlier === 0 ? '' : past ? `, ${earlier} of which met the condition earlier` : ` (${others}: --past)`;
  return `${countOf(number, 'document')}${hint}`;
}

function print(erasure: Erasure): void {
  const { id, documents, changes, seq, state, waiting, problem, backups, collection } = erasure;
  if (documents === 0) {
    process.stdout.write(`${pc.yellow('nothing to erase')} No document of ${collection} meets the condition.\n`);
    return;
  }
  process.stdout.write(
    `${pc.green('erased')} ${countOf(documents, 'document')} with ${countOf(changes, 'change')}, in ${collection}  ${pc.dim(`seq ${seq}, erasure ${id}`)}\n`,
  );
  if (state !== 'done') {
    process.stdout.write(
      `${pc.yellow('waiting')} These nodes have not rewritten their files yet: ${waiting.join(', ')}${problem === undefined ? '' : `. ${problem}`}\n`,
    );
  }
  printBackups(backups);
}

function printBackups(backups: readonly BackupRecord[]): void {
  if (backups.length === 0) return;
  process.stdout.write('\nThese backups still hold what was erased. Delete them where they are kept:\n\n');
  printTable(
    ['made', 'by', 'seq', 'size', 'sha256'],
    backups.map(({ time, identity, seq, sizeBytes, sha256 }) => [
      time.slice(0, 19).replace('T', ' '),
      identity,
      String(seq),
      formatBytes(sizeBytes),
      sha256,
    ]),
  );
}

async function list(store: Store, { json }: Options): Promise<void> {
  const { erasures } = await store.fetch<{ erasures: Erasure[] }>('/v1/erasures');
  if (json) return erasures.forEach(printJson);
  if (erasures.length === 0) process.stderr.write(pc.dim('nothing has been erased\n'));
  else {
    printTable(
      ['time', 'by', 'collection', 'documents', 'seq', 'state', 'backups', 'reason'],
      erasures.map(({ time, identity, collection, documents, seq, state, backups, reason }) => [
        time.slice(0, 19).replace('T', ' '),
        identity,
        collection,
        String(documents),
        String(seq),
        state === 'done' ? pc.green(state) : pc.yellow(state),
        backups.length === 0 ? pc.dim('none') : `${backups.length} hold it`,
        reason ?? pc.dim('–'),
      ]),
    );
  }
}
