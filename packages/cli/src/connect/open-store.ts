import { connect, type Store } from '@uproar/client';
import { DEFAULT_HOST, DEFAULT_PORT } from '@uproar/service/settings';
import type { Command } from 'commander';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { findTarget, type Target } from './profiles.js';

/** The options of every command that talks to a running store. */
export interface StoreOptions {
  url?: string;
  key?: string;
  profile?: string;
}

const BUILT_IN = `http://${DEFAULT_HOST}:${DEFAULT_PORT}`;

/** Adds `--url`, `--key` and `--profile` to a command. */
export function withStoreOptions(command: Command): Command {
  return command
    .option('--url <url>', `address of the store, or of several nodes: url,url (or UPROAR_URL; default ${BUILT_IN})`)
    .option('--key <key>', 'key or token (or UPROAR_KEY); not needed for open stores and anonymous access')
    .option('--profile <name>', 'named store (or UPROAR_PROFILE); see uproar profile');
}

/** Which store the options, the environment and the profiles mean. */
export function targetOf(options: StoreOptions): Target {
  return findTarget(options, BUILT_IN);
}

/** The addresses in a text: one, or those of the nodes of a cluster, separated by commas. */
export function addressesIn(url: string): string[] {
  return url.split(',').map((one) => one.trim());
}

/** Connects as commands do. A command must end, so a write without an answer fails instead of waiting in an outbox. */
export function connectTo({ url, key }: Pick<Target, 'url' | 'key'>, device = 'command line'): Store {
  return connect(addressesIn(url), { token: key, device, outbox: false });
}

/** Connects, uses the store, and closes it however that ends. */
export async function useStore<Result>(options: StoreOptions, use: (store: Store) => Promise<Result>): Promise<Result> {
  const store = openAt(options);
  try {
    await store.ready();
    return await use(store);
  } finally {
    store.close();
  }
}

/** Starts to connect to the selected store. */
export function openAt(options: StoreOptions): Store {
  const target = targetOf(options);
  try {
    return connectTo(target);
  } catch (error) {
    if (!(error instanceof TypeError)) throw error;
    throw new CommandError(
      `"${target.url}" is not the address of a store.`,
      EXIT.usage,
      'An address looks like http://127.0.0.1:4680.',
    );
  }
}
