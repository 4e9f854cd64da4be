import { ProblemError, type Document, type Store, type View, type Watch } from '@uproar/client';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../address.js';
import { openAt, withStoreOptions, type StoreOptions } from '../open-store.js';
import { describeFields } from '../describe-change.js';
import { cutLine, printJson } from '../output.js';
import { queryParts, withQueryOptions, type QueryOptions } from '../query-options.js';
import { showMistakes } from './query.js';

interface Options extends StoreOptions, QueryOptions {
  json?: boolean;
  lines?: boolean;
}

/** `uproar watch`: a live table on a terminal, and a line for each change elsewhere. */
export function addWatch(program: Command): void {
  withQueryOptions(withStoreOptions(program.command('watch')))
    .summary('show documents live: as a table on a terminal, elsewhere a line for each change')
    .description(
      'Shows a collection, a document, or the list of collections as it alters, until it is interrupted: as a table on a terminal, elsewhere as a line for each change.',
    )
    .argument('[address]', 'balloons, balloons/bl-17, or nothing for the list of collections')
    .option('--lines', 'print a line for each change on a terminal, too')
    .option('--json', 'print each change as a line of NDJSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar watch balloons\n  uproar watch balloons --lines\n  uproar watch gates/g-1 --json\n  uproar watch balloons --where "altitude > 1000" --order -altitude --limit 10',
    )
    .action((address: string | undefined, options: Options) => watch(address, options));
}

async function watch(text: string | undefined, options: Options): Promise<void> {
  const address = text === undefined ? undefined : parseAddress(text);
  const store = openAt(options);
  const stop = () => store.close();
  process.once('SIGINT', stop);
  process.once('SIGTERM', stop);
  // Whoever read the lines is gone: that is the end, not a failure.
  process.stdout.once('error', stop);
  const name = text ?? 'collections';
  const asTable = process.stdout.isTTY && !options.json && !options.lines;
  try {
    await store.ready();
    await showMistakes(options.where, () => {
      const watched = begin(store, address, options);
      if (asTable) return draw(watched, name, address?.id !== undefined, stop);
      return follow(watched, name, options.json ?? false);
    });
  } finally {
    process.off('SIGINT', stop);
    process.off('SIGTERM', stop);
    store.close();
  }
}

async function draw(watched: Watch, name: string, single: boolean, stop: () => void): Promise<void> {
  const { LiveTable } = await import('../live-table.js');
  const table = new LiveTable(name, single, stop);
  try {
    for await (const view of watched) {
      if (view.state === 'failed') throw new ProblemError(view.error!);
      table.show(view);
    }
  } finally {
    table.close();
  }
}

function begin(store: Store, address: { collection: string; id?: string } | undefined, options: Options): Watch {
  if (!address) return store.watchCollections();
  const collection = store.collection(address.collection);
  return address.id === undefined ? collection.watch(queryParts(options)) : collection.watchOne(address.id);
}

async function follow(watch: Watch, name: string, json: boolean): Promise<void> {
  let previous: View | undefined;
  for await (const view of watch) {
    if (view.state === 'failed') throw new ProblemError(view.error!);
    if (view.state === 'stale') {
      if (!json) note('the connection is broken; waiting for it to come back');
      continue;
    }
    if (view.state === 'loading') continue;
    if (!previous) begun(view, name, json);
    else for (const { id } of view.changes) printChange(previous.byId.get(id), view.byId.get(id), view.seq, json);
    previous = view;
  }
}

function begun(view: View, name: string, json: boolean): void {
  if (json)
    for (const document of view.documents) printJson({ seq: view.seq, change: 'found', id: document.id, document });
  else {
    const count = view.documents.length;
    note(`${name}: ${count} document${count === 1 ? '' : 's'} at seq ${view.seq}; changes follow, Ctrl-C ends`);
  }
}

function note(text: string): void {
  process.stdout.write(pc.dim(`· ${text}\n`));
}

function printChange(before: Document | undefined, after: Document | undefined, seq: number, json: boolean): void {
  const change = !before ? 'created' : !after ? 'deleted' : 'updated';
  const id = (after ?? before)!.id;
  if (json) {
    printJson({ seq, change, id, ...(after ? { document: after } : {}) });
    return;
  }
  const stamp = pc.dim((after?.updated ?? new Date().toISOString()).slice(11, 23));
  const mark = { created: pc.green('+'), updated: pc.yellow('~'), deleted: pc.red('-') }[change];
  const what = after ? describeFields(before, after) : 'deleted';
  const line = `${stamp}  ${pc.dim(String(seq).padStart(6))}  ${mark} ${pc.bold(id.padEnd(8))}  ${what}`;
  process.stdout.write(`${cutLine(line)}\n`);
}
