import { randomBytes } from 'node:crypto';
import type { LogPlace } from '../log/transport.js';
import { openStore, StoreError } from '../store/index.js';
import { copyStore } from './copy-store.js';
import type { EtcdLog, Founding } from './etcd-log.js';
import { identifyStore, type StoreIdentity } from './store-identity.js';

/** Where a node is in the log. */
export type Position = LogPlace & { hash: string };

/** How long a start waits for the log service, and for the entries that were written meanwhile, in milliseconds. */
export const START_MS = 30_000;

/** The most bytes of one entry; etcd takes 1.5 MiB by default. */
export const ENTRY_BYTES = 900_000;

/** What a cluster was founded with, and where the store of this node is in its log. */
interface Joined {
  founding: Founding;
  position: Position;
}

/**
 * Founds a cluster with the store of a data directory, or makes sure that the store can follow the log of the cluster: copied
 * from another node, where that is needed.
 *
 * @throws {StoreError} `cluster-refused` if the store and the cluster do not belong together, `cluster-unreachable`
 */
export async function foundOrJoin(etcd: EtcdLog, directory: string): Promise<Joined> {
  const own = identifyStore(directory);
  const present = await foundingOf(etcd, own);
  const joined = present
    ? { founding: present, position: await joinWith(etcd, present, own, directory) }
    : await found(etcd, own, directory);
  await refuseSmallEntries(etcd);
  return joined;
}

/** What the cluster was founded with; undefined if it was not yet. Without the log service: what the store knows of it. */
async function foundingOf(etcd: EtcdLog, own: StoreIdentity | undefined): Promise<Founding | undefined> {
  const endsMs = performance.now() + START_MS;
  for (;;) {
    try {
      const founding = await etcd.founding();
      if (founding || !own?.cluster) return founding;
      throw new StoreError(
        'cluster-refused',
        'This store is part of a cluster, but the log service has no data of it. If the data is lost, run ' +
          '"uproar cluster detach" on the store that is furthest, and begin a new cluster with it.',
      );
    } catch (error) {
      if (error instanceof StoreError) throw error;
      // A node that was part of the cluster serves what it has.
      if (own?.cluster?.secret !== undefined) return { ...own.cluster, secret: own.cluster.secret };
      if (performance.now() > endsMs) {
        throw new StoreError(
          'cluster-unreachable',
          `The log service does not answer (${(error as Error).message}). Check the addresses in --cluster.`,
        );
      }
      await new Promise((resolve) => setTimeout(resolve, 500));
    }
  }
}

/** Founds a cluster with the store of this node. */
async function found(etcd: EtcdLog, own: StoreIdentity | undefined, directory: string): Promise<Joined> {
  if (!own) await openStore(directory).close();
  const { store, generation, place, hash } = identifyStore(directory)!;
  const secret = randomBytes(24).toString('base64url');
  const founding = await etcd.found({ store, generation, place, hash, secret });
  if (founding.generation === generation) return { founding, position: { place, hash, revision: 0 } };
  // Another node was faster. Nothing is lost with a store that was just made.
  return { founding, position: await joinWith(etcd, founding, own, directory) };
}

/** Makes sure that the store of this node belongs to the cluster, and can follow its log. Returns where it is. */
async function joinWith(
  etcd: EtcdLog,
  founding: Founding,
  own: StoreIdentity | undefined,
  directory: string,
): Promise<Position> {
  if (own && (own.store !== founding.store || own.generation !== founding.generation)) {
    throw new StoreError(
      'cluster-refused',
      `The store in ${directory} is not that of the cluster. Use an empty directory to join, or another --cluster-prefix.`,
    );
  }
  const bounds = await etcd.bounds().catch(() => undefined);
  if (own && bounds && bounds.last < own.place) {
    throw new StoreError(
      'cluster-refused',
      `The log of the cluster ends at ${bounds.last}, but this store is at ${own.place}: the log service has lost data. ` +
        'Run "uproar cluster detach" on the store that is furthest, and begin a new cluster with it.',
    );
  }
  if (own && !own.unfit && !(bounds && bounds.first > own.place + 1)) return own;
  await copyFromAny(etcd, founding, directory);
  return identifyStore(directory)!;
}

async function copyFromAny(etcd: EtcdLog, { secret }: Founding, directory: string): Promise<void> {
  const endsMs = performance.now() + START_MS;
  let problem = 'no node is running';
  for (;;) {
    const nodes = await etcd.nodes().catch(() => []);
    for (const { address } of nodes.sort((one, other) => other.place - one.place)) {
      try {
        await copyStore(address, secret, directory);
        return;
      } catch (error) {
        problem = (error as Error).message;
      }
    }
    if (performance.now() > endsMs) {
      throw new StoreError(
        'cluster-unreachable',
        `The store could not be copied from another node: ${problem}. Start one that has it.`,
      );
    }
    await new Promise((resolve) => setTimeout(resolve, 500));
  }
}

/**
 * Makes sure that the log service takes the largest entries. If it does not answer now, that shows later.
 *
 * @throws {StoreError} `cluster-refused`
 */
async function refuseSmallEntries(etcd: EtcdLog): Promise<void> {
  try {
    await etcd.tryEntry(ENTRY_BYTES);
  } catch (error) {
    if (!/too large/.test((error as Error).message)) return;
    throw new StoreError(
      'cluster-refused',
      `etcd does not take requests of ${ENTRY_BYTES / 1000} kB. Start its members with --max-request-bytes 1572864 or more.`,
    );
  }
}
