import type { DocumentEnd, WriteOptions } from '@uproar/client';
import { formatPointer, type Adjustments } from '@uproar/core';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress, parseDocumentAddress } from '../arguments/address.js';
import { confirm } from '../output/confirm.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson } from '../output/output.js';
import { readData } from '../arguments/read-data.js';
import { parseDuration } from '../settings/amounts.js';

interface Options extends StoreOptions {
  ifVersion?: string;
  expires?: string;
  ttl?: string;
  json?: boolean;
  yes?: boolean;
}

const DATA_HELP = 'a JSON object, @file, or - for standard input';

/** `uproar put`: creates or replaces a document. */
export function addPut(program: Command): void {
  withEnd(writeCommand(program, 'put', 'create or replace a document'))
    .description('Creates or replaces a document. With a collection alone, creates one with a generated id.')
    .argument('<address>', 'balloons/bl-17, or balloons')
    .argument('<data>', DATA_HELP)
    .addHelpText(
      'after',
      `\nExamples:\n  uproar put balloons/bl-900 '{"name":"Amber Heron","status":"packed"}'\n  uproar put notices @notice.json --ttl 2h`,
    )
    .action((address: string, argument: string, options: Options) => {
      const { collection, id } = parseAddress(address);
      const data = readData(argument);
      return useStore(options, async (store) => {
        if (id !== undefined) {
          report(
            options,
            `${collection}/${id}`,
            await store.collection(collection).put(id, data, conditionAndEnd(options)),
          );
          return;
        }
        const { seq, documents } = await store.commit({ writes: [{ create: collection, data, ...endOf(options) }] });
        report(options, `${collection}/${documents[0]!.id}`, seq);
      });
    });
}

/** `uproar merge`: changes fields of a document. */
export function addMerge(program: Command): void {
  withEnd(writeCommand(program, 'merge', 'change fields of a document'))
    .description('Changes the fields given and leaves the others (JSON Merge Patch, RFC 7396); null removes a field.')
    .argument('<address>', 'balloons/bl-17')
    .argument('<data>', DATA_HELP)
    .addHelpText(
      'after',
      `\nExamples:\n  uproar merge balloons/bl-17 '{"status":"aloft"}'\n  uproar merge pads/p-1 '{"claimedBy":null}' --if-version 41\n  uproar merge notices/n-003 '{}' --expires 2026-06-07T20:00:00Z`,
    )
    .action((address: string, argument: string, options: Options) => {
      const { collection, id } = parseDocumentAddress(address);
      const data = readData(argument);
      return useStore(options, async (store) =>
        report(options, address, await store.collection(collection).merge(id, data, conditionAndEnd(options))),
      );
    });
}

/** `uproar adjust`: changes fields from the value they have in the store. */
export function addAdjust(program: Command): void {
  withEnd(writeCommand(program, 'adjust', 'adjust fields relative to their value in the store'))
    .description(
      'Changes fields relative to their value in the store, safe with concurrent writers: FIELD+=N and FIELD-=N add; an object of ' +
        'JSON Pointers gives other operations: add, max, min, append, with, without, now, clear.',
    )
    .argument('<address>', 'gates/g-1')
    .argument('<change...>', 'count+=1, or a JSON object such as \'{"/crew":{"with":["c-2"]}}\'')
    .addHelpText(
      'after',
      `\nExamples:\n  uproar adjust gates/g-1 spectators+=1\n  uproar adjust crews/c-2 '{"/members":{"with":["Ines"]},"/seen":{"now":true}}'`,
    )
    .action((address: string, changes: string[], options: Options) => {
      const { collection, id } = parseDocumentAddress(address);
      const by = Object.assign({}, ...changes.map(readAdjustment)) as Adjustments;
      return useStore(options, async (store) =>
        report(options, address, await store.collection(collection).adjust(id, by, conditionAndEnd(options))),
      );
    });
}

/** Reads `pilot.flights+=1`, or a JSON object. */
function readAdjustment(text: string): Adjustments {
  const [, field, sign, amount] = /^([^+=]+)([+-])=(\d+(?:\.\d+)?)$/.exec(text) ?? [];
  if (field === undefined) return readData(text) as unknown as Adjustments;
  return { [formatPointer(field.split('.'))]: { add: Number(`${sign}${amount}`) } };
}

/** `uproar delete`: deletes a document. */
export function addDelete(program: Command): void {
  writeCommand(program, 'delete', 'delete a document')
    .description('Deletes a document. In a terminal it asks for confirmation.')
    .argument('<address>', 'balloons/bl-17')
    .option('--yes', 'do not ask')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar delete notices/n-003\n  uproar delete notices/n-004 --yes --if-version 120',
    )
    .action((address: string, options: Options) => {
      const { collection, id } = parseDocumentAddress(address);
      return useStore(options, async (store) => {
        if (!options.yes && process.stdin.isTTY && !(await confirm(`Delete ${address}? [y/N] `))) {
          throw new CommandError('Nothing was deleted.');
        }
        await store.collection(collection).delete(id, condition(options));
        if (options.json) printJson({ address, version: 0 });
        else process.stdout.write(`${pc.green('deleted')} ${address}\n`);
      });
    });
}

function writeCommand(program: Command, name: string, summary: string): Command {
  return withStoreOptions(program.command(name))
    .summary(summary)
    .option('--if-version <version>', 'only if the document has this version; 0: only if it does not exist')
    .option('--json', 'print the result as JSON');
}

function condition({ ifVersion }: Options): { ifVersion?: number } {
  if (ifVersion === undefined) return {};
  if (!/^\d{1,15}$/.test(ifVersion)) {
    throw new CommandError(`"${ifVersion}" is no version.`, EXIT.usage, 'A version is a whole number; get prints it.');
  }
  return { ifVersion: Number(ifVersion) };
}

function withEnd(command: Command): Command {
  return command
    .option('--ttl <duration>', 'let the store delete the document after this time, such as 30s, 5m, 12h or 7d')
    .option(
      '--expires <time>',
      'let the store delete it at this time, such as 2026-06-07T20:00:00Z; never: it does not end',
    );
}

function conditionAndEnd(options: Options): WriteOptions {
  return { ...condition(options), ...endOf(options) };
}

/** When the document is to end. */
function endOf({ expires, ttl }: Options): DocumentEnd {
  if (expires !== undefined && ttl !== undefined) {
    throw new CommandError('A document ends at a time or after a duration.', EXIT.usage, 'Give --expires or --ttl.');
  }
  if (ttl !== undefined) return { ttl: parseDuration(ttl)! / 1000 };
  if (expires === undefined) return {};
  if (expires === 'never') return { expires: null };
  if (/^\d{4}-\d\d-\d\dT/.test(expires) && !Number.isNaN(Date.parse(expires))) {
    return { expires: new Date(expires).toISOString() };
  }
  throw new CommandError(`"${expires}" is no time.`, EXIT.usage, 'Write it like 2026-06-07T20:00:00Z, or never.');
}

function report(options: Options, address: string, version: number): void {
  if (options.json) printJson({ address, version });
  else process.stdout.write(`${pc.green('written')} ${address}  ${pc.dim(`version ${version}`)}\n`);
}
