import type { JsonObject, Store } from '@uproar/client';
import type { JournalEvent } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { cutLine } from '../output/output.js';
import { describeFields } from '../output/describe-change.js';
import { showMistakes } from './query.js';

interface Options extends StoreOptions {
  after?: string;
  collection?: string;
  where?: string;
  by?: string;
  last: string;
  follow?: boolean;
  json?: boolean;
}

/** `uproar journal`: prints changes. */
export function addJournal(program: Command): void {
  withStoreOptions(program.command('journal'))
    .summary('print changes: what changed, by whom, from which value to which')
    .description(
      'Prints the changes in the journal, and new ones with --follow. With an address, the history of that document.',
    )
    .argument('[address]', 'balloons/bl-17')
    .option('--after <seq>', 'only changes after this seq')
    .option('--last <number>', 'without --after: number of commits (of the document)', '20')
    .option('--collection <name>', 'only this collection')
    .option('--where <condition>', 'only documents that match this before or after the change')
    .option('--by <identity>', 'only changes by this identity, such as key:tower')
    .option('--follow', 'follow new changes')
    .option('--json', 'print one CloudEvent per line')
    .addHelpText(
      'after',
      `\nExamples:\n  uproar journal\n  uproar journal balloons/bl-17\n  uproar journal --collection pads --follow\n  uproar journal --after 1200 --where "status = 'aloft'" --json`,
    )
    .action((address: string | undefined, options: Options) => {
      const { collection, id } = address === undefined ? {} : parseAddress(address);
      const doc = id === undefined ? undefined : address;
      return useStore(options, (store) =>
        showMistakes(options, () =>
          journal(store, doc, id === undefined && collection ? { ...options, collection } : options),
        ),
      );
    });
}

async function journal(store: Store, doc: string | undefined, options: Options): Promise<void> {
  const after = options.after ?? String(await startOf(store, doc, Number(options.last)));
  const parameters = new URLSearchParams({ after });
  if (doc !== undefined) parameters.set('doc', doc);
  if (options.collection) parameters.set('collection', options.collection);
  if (options.where) parameters.set('where', options.where);
  if (options.by) parameters.set('identity', options.by);
  const accept = options.follow ? 'text/event-stream' : 'application/x-ndjson';
  const stop = () => process.exit(0);
  process.once('SIGINT', stop);
  process.stdout.once('error', stop);
  let rest = '';
  let printed = 0;
  for await (const text of store.stream(`/v1/journal?${parameters}`, undefined, accept)) {
    const lines = (rest + text).split('\n');
    rest = lines.pop()!;
    for (const line of lines) {
      const json = options.follow ? /^data: (\{.*"specversion".*)$/.exec(line)?.[1] : line;
      if (!json) continue;
      print(json, options.json ?? false);
      printed++;
    }
  }
  if (printed === 0 && !options.json)
    process.stderr.write(pc.dim(`the journal holds no change ${doc ? `of ${doc}` : 'like that'}\n`));
}

/** The seq after which the last commits (of the document) begin. */
async function startOf(store: Store, doc: string | undefined, last: number): Promise<number> {
  const limit = doc === undefined ? 1 : Math.min(10_000, Math.max(1, last));
  const query = new URLSearchParams({ before: 'now', limit: String(limit), ...(doc === undefined ? {} : { doc }) });
  const { seq, first } = await store.fetch<{ seq: number; first: number }>(`/v1/journal?${query}`);
  return Math.max(doc === undefined ? seq - last : seq - 1, first - 1, 0);
}

function print(line: string, json: boolean): void {
  if (json) {
    process.stdout.write(line + '\n');
    return;
  }
  const { type, subject, time, seq, identity, data } = JSON.parse(line) as JournalEvent;
  const kind = type.split('.').at(-1) as 'created' | 'updated' | 'deleted' | 'erased';
  const mark = { created: pc.green('+'), updated: pc.yellow('~'), deleted: pc.red('-'), erased: pc.red('×') }[kind];
  const what = data.after
    ? describeFields(data.before ?? undefined, data.after)
    : data.before
      ? describeLost(data.before.data)
      : pc.dim('erased');
  const stamp = pc.dim(time.replace('T', ' ').slice(0, 19));
  process.stdout.write(
    `${cutLine(`${pc.dim(String(seq).padStart(6))}  ${stamp}  ${pc.dim(identity)}  ${mark} ${pc.bold(subject)}  ${what}`)}\n`,
  );
}

function describeLost(data: JsonObject): string {
  return pc.dim(`was ${JSON.stringify(data)}`);
}
