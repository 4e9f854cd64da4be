import { formatBytes, formatDuration } from '@uproar/core';
import type { ClusterNode, ClusterState, EtcdMember } from '@uproar/protocol';
import { CLOCK_DIFFERENCE_MS, SILENT_AFTER_MS } from '@uproar/protocol/timing';
import type { Command } from 'commander';
import pc from 'picocolors';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson, printTable } from '../output/output.js';

const WORK = { maintenance: 'does the maintenance', hooks: 'delivers to hooks' };
const ALARMS = { 'no-space': 'is out of space', corrupt: 'has damaged data' };

/** `uproar cluster`: the nodes of a cluster, and how a store leaves it. */
export function addCluster(program: Command): void {
  const cluster = program
    .command('cluster')
    .summary('show the nodes of a cluster, or take a store out of it')
    .description('A store can be on several nodes: uproar serve --cluster. See docs/cluster.md.')
    .addHelpText('after', '\nExamples:\n  uproar cluster\n  uproar cluster detach my-data');
  withStoreOptions(cluster.command('status', { isDefault: true }))
    .description('Lists the nodes and the members of etcd, as the node at --url sees them.')
    .option('--json', 'print the answer as JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar cluster status\n  uproar cluster status --url http://10.0.0.5:4680 --json',
    )
    .action((options: StoreOptions & { json?: boolean }) =>
      useStore(options, async (store) => {
        const state = await store.fetch<ClusterState>('/v1/cluster');
        if (options.json) printJson(state);
        else printState(state);
      }),
    );
  cluster
    .command('detach')
    .description(
      'Takes the store of a data directory out of its cluster, while no service has it open. It keeps all its data, and ' +
        'can be served alone, or found a new cluster.',
    )
    .argument('[directory]', 'the data directory (or UPROAR_DATA)', process.env.UPROAR_DATA ?? 'uproar-data')
    .addHelpText('after', '\nExample:\n  uproar cluster detach my-data')
    .action(async (directory: string) => {
      const { detachStore } = await import('@uproar/service');
      const { seq } = detachStore(directory);
      process.stdout.write(`${pc.green('detached')} ${directory}  ${pc.dim(`seq ${seq}`)}\n`);
    });
}

function printState(state: ClusterState): void {
  const { store, nodes, place, etcd, staleSince, halted } = state;
  process.stdout.write(`${pc.bold('cluster')}  ${pc.dim(`store ${store}, place ${place} in the log`)}\n\n`);
  if (halted !== undefined) process.stdout.write(`${pc.red('halted')} ${halted}\n\n`);
  if (staleSince !== undefined) {
    const forMs = Date.now() - Date.parse(staleSince);
    process.stdout.write(
      `${pc.yellow('stale')} etcd has not answered for ${formatDuration(forMs)}. Reads go on; writes wait.\n\n`,
    );
  }
  printTable(
    ['node', 'address', 'version', 'seq', 'behind', 'last report', ''],
    nodes.map((other) => [
      other.node,
      other.address,
      other.version,
      String(other.seq),
      other.lag === 0 ? '–' : `${other.lag} ${other.lag === 1 ? 'entry' : 'entries'}`,
      `${(other.silentMs / 1000).toFixed(1)} s ago`,
      remarksOn(other, state),
    ]),
  );
  process.stdout.write('\n');
  printTable(
    ['etcd', 'version', 'size', 'state'],
    etcd.map((member) => [
      member.address,
      member.version ?? '–',
      member.sizeBytes === undefined ? '–' : formatBytes(member.sizeBytes),
      describeMember(member),
    ]),
  );
}

function describeMember({ answers, leads, hasLeader, alarms }: EtcdMember): string {
  if (!answers) return pc.red('does not answer');
  if (!hasLeader) return pc.red('knows no leader');
  return [leads ? 'leads' : 'follows', ...alarms.map((alarm) => pc.red(ALARMS[alarm]))].join(', ');
}

function remarksOn({ node, silentMs, differs, storage, clockDifferenceMs }: ClusterNode, state: ClusterState): string {
  const offMs = Math.abs(clockDifferenceMs);
  return [
    ...(node === state.node ? ['answers'] : []),
    ...state.leases.filter((lease) => lease.node === node).map(({ work }) => WORK[work]),
    ...(silentMs > SILENT_AFTER_MS && state.staleSince === undefined ? [pc.yellow('silent')] : []),
    ...(differs ? [pc.red('its data differs')] : []),
    ...(storage === undefined ? [] : [pc.red('cannot write to its disk')]),
    ...(offMs > CLOCK_DIFFERENCE_MS ? [pc.yellow(`its clock is off by ${formatDuration(offMs)}`)] : []),
  ].join(', ');
}
