import { formatBytes } from '@uproar/core';
import { USAGE_GROUPS, type UsageReport, type UsageRow } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson, printTable } from '../output/output.js';

/** What is passed on to the service as it is. */
const PARAMETERS = ['by', 'from', 'to', 'identity', 'collection', 'limit'] as const;

type Options = StoreOptions & Partial<Record<(typeof PARAMETERS)[number], string>> & { json?: boolean };

/** `uproar usage`: what each key, account, hook and collection uses, by day. */
export function addUsage(program: Command): void {
  withStoreOptions(program.command('usage'))
    .summary('what each identity and collection uses, by day')
    .description('Shows what identities have read, written and been sent, and what collections hold.')
    .option('--by <groups>', `group by ${USAGE_GROUPS.join(', ')}, or several, separated by commas`, 'identity')
    .option('--from <day>', 'the first day (UTC): 2026-06-12; by default six days before the last')
    .option('--to <day>', 'the last day (UTC); by default today')
    .option('--identity <identity>', 'only this identity, as in the journal: key:board')
    .option('--collection <name>', 'only this collection')
    .option('--limit <number>', 'the most rows', '100')
    .option('--json', 'print one JSON object per line')
    .addHelpText(
      'after',
      `
Counts are recorded once a minute. The row of a key, an account or a token is named as in the journal; "hook:NAME" is
what a hook was sent, "link" what signed links served.

Examples:
  uproar usage
  uproar usage --by collection --from 2026-06-01 --to 2026-06-30
  uproar usage --by day,identity --collection balloons --json`,
    )
    .action((options: Options) =>
      useStore(options, async (store) => {
        const parameters = new URLSearchParams();
        for (const name of PARAMETERS) if (options[name] !== undefined) parameters.set(name, options[name]);
        const report = await store.fetch<UsageReport>(`/v1/usage?${parameters}`);
        if (options.json) return report.rows.forEach(printJson);
        print(report);
      }),
    );
}

function print({ from, to, rows, more, total }: UsageReport): void {
  const groups = USAGE_GROUPS.filter((name) => rows.some((row) => row[name] !== undefined));
  const holds = rows.some(({ documents }) => documents !== undefined);
  if (rows.length > 0) {
    const headings = ['requests', 'reads', 'examined', 'writes', 'deliveries', 'sent'];
    printTable(
      [...groups, ...headings, ...(holds ? ['documents', 'stored'] : [])],
      rows.map((row) => [...groups.map((name) => row[name] || pc.dim('–')), ...cellsOf(row, holds)]),
    );
  }
  const { documents, storedBytes = 0 } = total;
  const stored =
    documents === undefined ? '' : `; ${count(documents)} documents with ${formatBytes(storedBytes)} stored`;
  const sent = `${count(total.deliveries)} deliveries, ${formatBytes(total.sentBytes)} sent`;
  const rest = more ? ', more rows with --limit' : '';
  process.stderr.write(
    pc.dim(`${from} to ${to}: ${count(total.reads)} reads, ${count(total.writes)} writes, ${sent}${stored}${rest}\n`),
  );
}

function cellsOf(row: UsageRow, holds: boolean): string[] {
  const { requests, reads, examined, writes, deliveries, sentBytes, documents, storedBytes } = row;
  const cells = [...[requests, reads, examined, writes, deliveries].map(count), formatBytes(sentBytes)];
  return holds ? [...cells, count(documents), formatBytes(storedBytes ?? 0)] : cells;
}

function count(number = 0): string {
  return number.toLocaleString('en-US');
}
