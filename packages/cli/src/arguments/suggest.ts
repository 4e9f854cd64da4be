import type { Store } from '@uproar/client';
import type { CollectionListing } from '@uproar/protocol';
import type { Command, Option } from 'commander';
import { openAt, type StoreOptions } from '../connect/open-store.js';
import { readProfiles } from '../connect/profiles.js';

/** Something that could come next on the command line. */
export interface Suggestion {
  word: string;
  about?: string;
}

/** Completion waits no longer than this for the store, in milliseconds. */
const WITHIN_MS = 1500;
const MOST_IDS = 60;

/** What could come next, where the last of the words is being written. */
export async function suggest(program: Command, words: readonly string[]): Promise<Suggestion[]> {
  const current = words.at(-1) ?? '';
  const { command, operands, values, awaiting } = walk(program, words.slice(0, -1));
  const found = awaiting ? ofOption(awaiting) : current.startsWith('-') ? options(command) : undefined;
  const suggestions = found ?? (await ofPlace(command, operands.length, current, values));
  return suggestions.filter(({ word }) => word.startsWith(current));
}

/** Where the words so far have led: to which command, and to an option that waits for its value. */
function walk(program: Command, words: readonly string[]) {
  let command = program;
  const operands: string[] = [];
  const values: Record<string, string> = {};
  let awaiting: Option | undefined;
  for (const word of words) {
    if (awaiting) {
      values[awaiting.attributeName()] = word;
      awaiting = undefined;
      continue;
    }
    if (word.startsWith('-')) {
      const option = command.options.find(({ long, short }) => word === long || word === short);
      if (option?.required) awaiting = option;
      continue;
    }
    const next = operands.length === 0 ? command.commands.find((one) => one.name() === word) : undefined;
    if (next) command = next;
    else operands.push(word);
  }
  return { command, operands, values, awaiting };
}

function options(command: Command): Suggestion[] {
  return command.options
    .filter(({ hidden }) => !hidden)
    .map(({ long, short, description }) => ({ word: long ?? short!, about: description }));
}

function ofOption({ argChoices, long }: Option): Suggestion[] {
  if (argChoices) return argChoices.map((word) => ({ word }));
  if (long === '--profile') return Object.keys(readProfiles().profiles).map((word) => ({ word }));
  return [];
}

async function ofPlace(command: Command, place: number, current: string, values: StoreOptions): Promise<Suggestion[]> {
  const inner = command.commands.filter((one) => !(one as Command & { _hidden?: boolean })._hidden);
  const commands = inner.map((one) => ({ word: one.name(), about: one.summary() || one.description() }));
  // A group of commands of which one is the default takes that one's arguments too.
  if (place === 0 && commands.length > 0) return commands;
  const argument = command.registeredArguments[Math.min(place, command.registeredArguments.length - 1)];
  if (!argument || (place >= command.registeredArguments.length && !argument.variadic)) return [];
  if (argument.argChoices) return argument.argChoices.map((word) => ({ word }));
  const name = argument.name();
  if (command.parent?.name() === 'profile' && name === 'name' && command.name() !== 'add') {
    return Object.keys(readProfiles().profiles).map((word) => ({ word }));
  }
  if (name !== 'address' && name !== 'collection') return [];
  return askStore(values, (store) => addresses(store, current, name === 'address'));
}

/** Collections, and behind the slash the ids of one. */
async function addresses(store: Store, current: string, withIds: boolean): Promise<Suggestion[]> {
  const [collection, prefix] = current.split('/');
  if (prefix === undefined || !withIds) {
    const { documents } = await store.fetch<CollectionListing>('/v1/collections');
    return documents.map(({ id, data }) => ({
      word: id,
      ...(data.documents === undefined ? {} : { about: `${data.documents} documents` }),
    }));
  }
  const pattern = `${prefix.replace(/[\\%_]/g, '\\$&').replaceAll("'", "''")}%`;
  const query = new URLSearchParams({ where: `meta('id') LIKE '${pattern}'`, limit: String(MOST_IDS), fields: 'id' });
  const { documents } = await store.fetch<{ documents: { id: string }[] }>(`/v1/data/${collection}?${query}`);
  return documents.map(({ id }) => ({ word: `${collection}/${id}` }));
}

/** Asks the selected store; without an answer in time, there are no suggestions. */
async function askStore(options: StoreOptions, ask: (store: Store) => Promise<Suggestion[]>): Promise<Suggestion[]> {
  let store: Store | undefined;
  try {
    store = openAt(options);
    const late = new Promise<Suggestion[]>((resolve) => setTimeout(() => resolve([]), WITHIN_MS).unref());
    return await Promise.race([ask(store), late]);
  } catch {
    return [];
  } finally {
    store?.close();
  }
}
