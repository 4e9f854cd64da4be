import { describeForm, formatBytes, formatDuration, type QueryForm } from '@uproar/core';
import type { BudgetUse, ConnectionInfo, ConnectionListing, ConnectionWatch, MetricsReport } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson, printTable } from '../output/output.js';

type Options = StoreOptions & { json?: boolean };

/** `uproar devices`: who is connected, what each watches, and how far behind it is. */
export function addDevices(program: Command): void {
  const devices = program
    .command('devices')
    .summary('list connections, their watches and their lag')
    .description('Live connections of devices, browsers and commands.')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar devices\n  uproar devices list truck\n  uproar devices end 9f2c41d07ab3',
    );
  withStoreOptions(devices.command('list', { isDefault: true }))
    .description('Lists the connections, sorted by lag.')
    .argument('[search]', 'only connections whose name, identity, address or watches contain this text')
    .option('--limit <number>', 'the most connections', '500')
    .option('--json', 'print one JSON object per line')
    .addHelpText('after', '\nExamples:\n  uproar devices list\n  uproar devices list balloons --json')
    .action((search: string | undefined, options: Options & { limit: string }) =>
      useStore(options, async (store) => {
        const query = new URLSearchParams({ limit: options.limit, ...(search === undefined ? {} : { search }) });
        const { connections, total, found } = await store.fetch<ConnectionListing>(`/v1/connections?${query}`);
        if (options.json) return connections.forEach(printJson);
        if (connections.length > 0) {
          printTable(
            ['id', 'device', 'identity', 'for', 'behind', 'sent', 'unread', 'watches'],
            connections.map(rowOf),
          );
        }
        const rest = found > connections.length ? `, ${connections.length} shown` : '';
        process.stderr.write(pc.dim(`${search === undefined ? total : `${found} of ${total}`} connected${rest}\n`));
        const { budgets } = await store.fetch<MetricsReport>(`/v1/metrics/samples?after=${new Date().toISOString()}`);
        process.stderr.write(pc.dim(describeBudgets(budgets)));
      }),
    );
  withStoreOptions(devices.command('end'))
    .description('Closes a connection. The device reconnects by itself; revoke its key to keep it out.')
    .argument('<id>', 'the id from "devices list"')
    .addHelpText('after', '\nExample:\n  uproar devices end 9f2c41d07ab3')
    .action((id: string, options: Options) =>
      useStore(options, async (store) => {
        await store.request('DELETE', `/v1/connections/${encodeURIComponent(id)}`);
        process.stdout.write(`${pc.green('ended')} ${id}\n`);
      }),
    );
}

/** The number of identities listed with their memory. */
const MAX_NAMED = 5;

/** The memory by client, and requests refused because of it. */
function describeBudgets({ heldBytes, processBytes, holders, refused, ended }: BudgetUse): string {
  const users = holders
    .filter((holder) => holder.heldBytes > 0)
    .slice(0, MAX_NAMED)
    .map((holder) => `${holder.holder} ${formatBytes(holder.heldBytes)}`);
  const counts = Object.entries({ ...ended, 'refused-requests': refused.identity + refused.process })
    .filter(([, count]) => count > 0)
    .map(([reason, count]) => `${reason} ${count}`);
  return [
    `memory used for clients: ${formatBytes(heldBytes)} of ${formatBytes(processBytes)}`,
    ...(users.length > 0 ? [`most by ${users.join(', ')}`] : []),
    ...(counts.length > 0 ? [`ended or refused since the start: ${counts.join(', ')}`] : []),
    '',
  ].join('\n');
}

function rowOf({ id, device, agent, identity, since, sentBytes, unreadBytes, watches }: ConnectionInfo): string[] {
  const worst = watches.reduce((most, watch) => Math.max(most, watch.commitsBehind), 0);
  return [
    id,
    device ?? agent?.split(' ')[0] ?? pc.dim('no name'),
    identity ?? pc.dim('has not said'),
    formatDuration(Date.now() - Date.parse(since)),
    watches.length === 0 ? pc.dim('–') : worst === 0 ? pc.green('up to date') : pc.yellow(`${worst} commits`),
    formatBytes(sentBytes),
    formatBytes(unreadBytes),
    watches.length === 0 ? pc.dim('nothing') : watches.map(describe).join(', '),
  ];
}

function describe({ query, doc, journal }: ConnectionWatch): string {
  if (doc !== undefined) return doc;
  if (journal) return 'the journal';
  if (!query) return 'the list of collections';
  return `${query.from} ${describeForm(query as QueryForm)}`.trimEnd();
}
