import { ProblemError, type Store, type TypedDocument, type View, type Watch } from '@uproar/client';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { noteMistakes } from '../output/notes.js';
import { openAt, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { describeFields } from '../output/describe-change.js';
import { cutLine, formatValue, printJson } from '../output/output.js';
import { queryParts, withQueryOptions, type QueryOptions } from '../arguments/query-options.js';
import { showMistakes } from './query.js';

/** The target of the watch. */
type Kind = 'document' | 'documents' | 'groups';

interface Options extends StoreOptions, QueryOptions {
  json?: boolean;
  lines?: boolean;
}

/** `uproar watch`: a live table on a terminal, and a line for each change elsewhere. */
export function addWatch(program: Command): void {
  withQueryOptions(withStoreOptions(program.command('watch')))
    .summary('watch documents: as a table in a terminal, otherwise one line per change')
    .description(
      'Watches a collection, a document, or the list of collections until it is interrupted: as a table in a terminal, otherwise one line per change.',
    )
    .argument('[address]', 'balloons, balloons/bl-17, or nothing for the list of collections')
    .option('--lines', 'print one line per change, also in a terminal')
    .option('--json', 'print each change as NDJSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar watch balloons\n  uproar watch balloons --lines\n  uproar watch gates/g-1 --json\n  uproar watch balloons --where "altitude > 1000" --order -altitude --limit 10\n  uproar watch balloons --summary "count(),max(altitude)" --by status',
    )
    .action((address: string | undefined, options: Options) => watch(address, options));
}

async function watch(text: string | undefined, options: Options): Promise<void> {
  const address = text === undefined ? undefined : parseAddress(text);
  const store = openAt(options);
  const stop = () => store.close();
  process.once('SIGINT', stop);
  process.once('SIGTERM', stop);
  // The reader of the lines has gone: exit without an error.
  process.stdout.once('error', stop);
  const name = text ?? 'collections';
  const asTable = process.stdout.isTTY && !options.json && !options.lines;
  try {
    await store.ready();
    if (address && address.id === undefined) await noteMistakes(store, address.collection, queryParts(options));
    await showMistakes(options, () => {
      const watched = begin(store, address, options);
      const kind: Kind =
        address?.id !== undefined ? 'document' : options.summary === undefined ? 'documents' : 'groups';
      if (asTable) return draw(watched, name, kind, stop, firstOfOrder(options.order));
      return follow(watched, name, kind, options.json ?? false);
    });
  } finally {
    process.off('SIGINT', stop);
    process.off('SIGTERM', stop);
    store.close();
  }
}

/** The first field of an order; undefined without one. */
const firstOfOrder = (order = '') => order.split(',')[0]?.trim().replace(/^-/, '') || undefined;

async function draw(watched: Watch, name: string, kind: Kind, stop: () => void, orderedBy?: string): Promise<void> {
  const { LiveTable } = await import('../output/live-table.js');
  const table = new LiveTable(name, kind, stop, orderedBy);
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

async function follow(watch: Watch, name: string, kind: Kind, json: boolean): Promise<void> {
  let previous: View | undefined;
  for await (const view of watch) {
    if (view.state === 'failed') throw new ProblemError(view.error!);
    if (view.state === 'stale') {
      if (!json) note('not connected; waiting for the connection');
      continue;
    }
    if (view.state === 'loading') continue;
    if (!previous) begun(view, name, kind, json);
    else for (const { id } of view.changes) printChange(previous.byId.get(id), view.byId.get(id), view.seq, kind, json);
    previous = view;
  }
}

function begun(view: View, name: string, kind: Kind, json: boolean): void {
  if (json) {
    for (const document of view.documents) printJson({ seq: view.seq, change: 'found', id: document.id, document });
    return;
  }
  const count = view.documents.length;
  const noun = kind === 'groups' ? 'group' : 'document';
  note(`${name}: ${count} ${noun}${count === 1 ? '' : 's'} at seq ${view.seq}; changes follow, Ctrl-C ends`);
  // There are few groups, and their changes say little without the previous values.
  if (kind === 'groups') for (const group of view.documents) printChange(undefined, group, view.seq, kind, json);
}

function note(text: string): void {
  process.stdout.write(pc.dim(`· ${text}\n`));
}

function printChange(
  before: TypedDocument | undefined,
  after: TypedDocument | undefined,
  seq: number,
  kind: Kind,
  json: boolean,
): void {
  const change = !before ? 'created' : !after ? 'deleted' : 'updated';
  const id = (after ?? before)!.id;
  if (json) {
    printJson({ seq, change, id, ...(after ? { document: after } : {}) });
    return;
  }
  const stamp = pc.dim((after?.updated ?? new Date().toISOString()).slice(11, 23));
  const mark = { created: pc.green('+'), updated: pc.yellow('~'), deleted: pc.red('-') }[change];
  const what = after ? describeFields(before, after) : 'deleted';
  // What a group is of, stands in its data; a watch without groups has nothing to tell apart.
  const subject = kind === 'groups' ? groupName(after ?? before!) : `${pc.bold(id.padEnd(8))}  `;
  const line = `${stamp}  ${pc.dim(String(seq).padStart(6))}  ${mark} ${subject}${what}`;
  process.stdout.write(`${cutLine(line)}\n`);
}

/** What a group is of: the values of its data that are no totals. */
function groupName({ data }: TypedDocument): string {
  const values = Object.entries(data).filter(([name]) => !name.endsWith(')'));
  const shown = values.map(([, value]) => formatValue(value)).join(', ');
  return values.length === 0 ? '' : `${pc.bold(shown.padEnd(8))}  `;
}
