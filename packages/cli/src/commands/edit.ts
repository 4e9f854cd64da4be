import { spawnSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { isProblem, type JsonObject } from '@uproar/client';
import { findDataFault, guardedPatch } from '@uproar/core';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseDocumentAddress } from '../arguments/address.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson } from '../output/output.js';
import { parseObject } from '../arguments/read-data.js';

/** `uproar edit`: opens a document in an editor and sends the changes. */
export function addEdit(program: Command): void {
  withStoreOptions(program.command('edit'))
    .summary('open a document in your editor')
    .description(
      'Opens the data of a document in $VISUAL or $EDITOR and sends only your changes. Fields that someone else changes ' +
        'meanwhile stay as they are. If both changed the same field, nothing is written and your text is kept.',
    )
    .argument('<address>', 'balloons/bl-17')
    .option('--json', 'print the result as JSON')
    .addHelpText('after', '\nExample:\n  EDITOR=nano uproar edit notices/n-007')
    .action(edit);
}

async function edit(address: string, options: StoreOptions & { json?: boolean }): Promise<void> {
  const { collection, id } = parseDocumentAddress(address);
  await useStore(options, async (store) => {
    const document = await store.collection(collection).get(id);
    if (!document)
      throw new CommandError(`The document ${address} does not exist.`, EXIT.notFound, 'uproar put creates it.');
    const directory = mkdtempSync(join(tmpdir(), 'uproar-edit-'));
    const file = join(directory, `${collection}-${id}.json`);
    const original = `${JSON.stringify(document.data, null, 2)}\n`;
    writeFileSync(file, original, { mode: 0o600 });
    try {
      openEditor(file);
      const data = readEdited(file);
      const ops = guardedPatch(document.data, data);
      if (ops.length === 0) {
        process.stdout.write(`${pc.dim('unchanged')} ${address}\n`);
      } else {
        const { seq } = await store.commit({ writes: [{ patch: address, ops }] });
        if (options.json) printJson({ address, version: seq });
        else process.stdout.write(`${pc.green('written')} ${address}  ${pc.dim(`version ${seq}`)}\n`);
      }
      rmSync(directory, { recursive: true });
    } catch (error) {
      const kept = `Your text is kept in ${file}.`;
      if (isProblem(error, 'test-failed')) {
        throw new CommandError(
          `Another client changed ${error.problem.pointer ?? 'the same field'} of ${address} meanwhile.`,
          EXIT.conflict,
          kept,
        );
      }
      process.stderr.write(`      ${pc.dim(kept)}\n`);
      throw error;
    }
  });
}

function openEditor(file: string): void {
  const editor = process.env.VISUAL || process.env.EDITOR || 'vi';
  // An editor may come with options of its own, so it is a line for the shell; the file is not part of that line.
  const { status, error } = spawnSync('sh', ['-c', `${editor} "$1"`, 'sh', file], { stdio: 'inherit' });
  if (error || status !== 0) {
    throw new CommandError(`The editor "${editor}" ended with ${error?.message ?? `status ${status}`}.`);
  }
}

function readEdited(file: string): JsonObject {
  const data = parseObject(readFileSync(file, 'utf8'), "A document's data");
  const fault = findDataFault(data);
  if (fault) throw new CommandError(`${fault.detail} (at ${fault.pointer || '/'})`, EXIT.usage);
  return data;
}
