import { ProblemError, type Store, type TypedDocument } from '@uproar/client';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { noteMistakes, printNotes } from '../output/notes.js';
import { formatValue, outputWidth, printDocuments, printJson } from '../output/output.js';
import { queryParts, withQueryOptions, type QueryOptions } from '../arguments/query-options.js';
import { markPosition } from '../arguments/read-data.js';

interface Options extends StoreOptions, QueryOptions {
  json?: boolean;
  format?: 'csv' | 'ndjson';
  explain?: boolean;
  chart?: string | true;
}

/** `uproar query`: the documents of a query, once. */
export function addQuery(program: Command): void {
  withQueryOptions(withStoreOptions(program.command('query')))
    .summary('run a query and print the documents')
    .description('Prints the documents that match a condition, in order. See docs/query.md for the language.')
    .argument('<collection>', 'balloons')
    .option('--after <cursor>', 'continue after the previous result')
    .option('--json', 'print NDJSON; without a limit, all documents')
    .option('--csv', 'print CSV')
    .option('--chart [field]', 'print bars of a number; of the totals, or the first number in the order, if left out')
    .option('--explain', 'show the plan and the cost instead')
    .addHelpText(
      'after',
      `\nExamples:\n  uproar query balloons --where "status = 'aloft' AND altitude > 300" --order -altitude --limit 10\n` +
        `  uproar query flights --where "passengers >= 4" --fields start,passengers --csv\n` +
        `  uproar query balloons --include "crew = crews via crewId; flights by balloonId order -start limit 3"\n` +
        `  uproar query balloons --summary "count(),max(altitude)" --by status\n` +
        `  uproar query balloons --summary "count()" --by status --chart\n` +
        `  uproar query balloons --order -altitude --limit 10 --chart altitude\n` +
        `  uproar query balloons --where "altitude > 1000" --explain`,
    )
    .action((address: string, options: Options & { csv?: boolean }) => {
      const { collection, id } = parseAddress(address);
      if (id !== undefined) throw new CommandError('query needs a collection; get prints one document.', EXIT.usage);
      return useStore(options, (store) => showMistakes(options, () => query(store, collection, options)));
    });
}

async function query(store: Store, collection: string, options: Options & { csv?: boolean }): Promise<void> {
  const parts = queryParts(options);
  if (options.explain) return explain(store, { from: collection, ...parts }, options.json ?? false);
  if (options.json || options.csv) {
    await noteMistakes(store, collection, parts);
    const body = { from: collection, ...(parts.summary === undefined ? { limit: 'none' } : {}), ...parts };
    const stream = store.stream('/v1/query', body, options.csv ? 'text/csv' : 'application/x-ndjson');
    for await (const text of stream)
      if (!process.stdout.write(text)) await new Promise((resolve) => process.stdout.once('drain', resolve));
    return;
  }
  const shown = parts.summary === undefined ? { limit: 50, ...parts } : parts;
  const { documents, next, notes } = await store.collection(collection).list(shown as never);
  printNotes(notes);
  if (documents.length > 0 && options.chart) await printChart(documents, options);
  else if (documents.length > 0) printDocuments(documents, parts.summary === undefined);
  else process.stderr.write(pc.dim('no documents\n'));
  if (next) process.stderr.write(pc.dim(`more: --after ${next}\n`));
}

/** Prints a number of each document as a bar. */
async function printChart(documents: readonly TypedDocument[], { chart, order = '' }: Options): Promise<void> {
  const { barChart } = await import('../output/bar-chart.js');
  const numbers = (name: string) => documents.some(({ data }) => typeof data[name] === 'number');
  const names = [...new Set(documents.flatMap(({ data }) => Object.keys(data)))];
  const ordered = order.split(',').map((term) => term.trim().replace(/^-/, ''));
  const totals = names.filter((name) => name.endsWith(')'));
  const field = typeof chart === 'string' ? chart : [...totals, ...ordered, ...names].find(numbers);
  if (field === undefined || !numbers(field)) {
    const had = names.filter(numbers);
    const others = had.length > 0 ? ` There are ${had.join(', ')}.` : ' The documents have no numbers.';
    throw new CommandError(
      `--chart needs a field with numbers${field === undefined ? '' : `, and ${field} has none`}.${others}`,
      EXIT.usage,
    );
  }
  const groups = names.filter((name) => !name.endsWith(')'));
  const labelOf = ({ id, data }: TypedDocument) => {
    if (totals.length > 0) return groups.map((name) => formatValue(data[name])).join(', ') || 'all';
    return typeof data.name === 'string' ? `${id} ${data.name}` : id;
  };
  const bars = documents.flatMap((document) => {
    const value = document.data[field];
    return typeof value === 'number' ? [{ label: labelOf(document), value }] : [];
  });
  const width = Math.min(outputWidth(), WIDEST_CHART);
  process.stdout.write(`${pc.dim(field)}\n${barChart(bars, width).join('\n')}\n`);
  const without = documents.length - bars.length;
  if (without > 0) process.stderr.write(pc.dim(`${without} without ${field}\n`));
}

/** Elsewhere than on a terminal, and on a very wide one, bars are not longer than this. */
const WIDEST_CHART = 100;

interface Explanation {
  where: string | null;
  scan: string;
  index: string | null;
  searchedBy: string[];
  ordered: boolean;
  documentsRead: number | null;
  documentsReturned: number;
  more: boolean;
  milliseconds: number;
  includes: { name: string; from: string; scan: 'ids' | 'index' | 'full'; index: string | null }[];
  matchedBy: { kind: string; requirements: string[] };
  warnings: string[];
  advice: string[];
}

async function explain(store: Store, body: unknown, json: boolean): Promise<void> {
  const found = await store.post<Explanation>('/v1/explain', body);
  if (json) {
    printJson(found);
    return;
  }
  const scans = {
    document: 'one document, by its id',
    index: `the index ${found.index} (index scan)`,
    full: 'every document of the collection (full scan)',
    none: 'nothing: the collection does not exist',
  };
  const matched = {
    values: 'by values: only changes of documents with these values are tested',
    ranges: 'by a range: only changes of documents in this range are tested',
    areas: 'by an area: only changes of documents with a geometry that touches it are tested',
    texts: 'by a text: only changes of documents that contain it are tested',
    'every-change': 'every change of the collection is tested',
  };
  const more = found.more ? ', and there are more' : '';
  const rows: [string, string][] = [
    ['condition', found.where ?? 'none: every document'],
    ...(found.documentsRead === null
      ? // A caller whom the policy restricts gets no figure that depends on hidden documents.
        ([['returns', `${found.documentsReturned} documents${more}`]] satisfies [string, string][])
      : ([
          [
            'scans',
            scans[found.scan as keyof typeof scans] +
              (found.searchedBy.length > 0 ? `, searched by ${found.searchedBy.join(', ')}` : ''),
          ],
          [
            'order',
            found.ordered
              ? `by ${found.index === null ? 'ids' : 'the index'}, so reading stops at the limit`
              : 'by sorting all matches',
          ],
          [
            'reads',
            `${found.documentsRead} documents for ${found.documentsReturned}${more}, in ${found.milliseconds} ms`,
          ],
        ] satisfies [string, string][])),
    ...found.includes.map(({ name, from, scan, index }): [string, string] => [
      `with ${name}`,
      { ids: `${from}, by ids`, index: `${from}, by the index ${index}`, full: `all of ${from} (full scan)` }[scan],
    ]),
    [
      'as a watch',
      matched[found.matchedBy.kind as keyof typeof matched] +
        (found.matchedBy.requirements.length > 0 ? ` (${found.matchedBy.requirements.join(', ')})` : ''),
    ],
  ];
  const width = Math.max(...rows.map(([name]) => name.length)) + 1;
  for (const [name, text] of rows) process.stdout.write(`${pc.dim(name.padEnd(width))}${text}\n`);
  for (const warning of found.warnings) process.stdout.write(`${pc.yellow('warning'.padEnd(width))}${warning}\n`);
  for (const advice of found.advice) process.stdout.write(`${pc.cyan('advice'.padEnd(width))}${advice}\n`);
}

/** Shows the place of an error in a condition or an include, with a caret under it. */
export async function showMistakes<Result>(
  { where, include }: Pick<QueryOptions, 'where' | 'include'>,
  act: () => Promise<Result>,
): Promise<Result> {
  try {
    return await act();
  } catch (error) {
    if (!(error instanceof ProblemError)) throw error;
    const { type, detail, position, pointer } = error.problem;
    const text = pointer === undefined ? where : pointer === '/include' ? include : undefined;
    if (type !== '/problems/bad-query' || position === undefined || text === undefined) throw error;
    throw new CommandError(`${detail}\n${markPosition(text, position)}`, EXIT.usage);
  }
}
