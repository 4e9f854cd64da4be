import { connect, type Store } from '@uproar/client';
import { DEFAULT_HOST, DEFAULT_PORT } from '@uproar/service/settings';
import type { Command } from 'commander';
import { CommandError, EXIT } from './exit-codes.js';

/** The options of every command that talks to a running store. */
export interface StoreOptions {
  url: string;
  key?: string;
}

/** Adds `--url` and `--key` to a command. */
export function withStoreOptions(command: Command): Command {
  return command
    .option(
      '--url <url>',
      'where the store is (or UPROAR_URL)',
      process.env.UPROAR_URL ?? `http://${DEFAULT_HOST}:${DEFAULT_PORT}`,
    )
    .option('--key <key>', 'a key or token (or UPROAR_KEY); stores that stand open, or that a policy opens, take none');
}

/** The key given by option or environment; without one, the store says whether it lets people take part. */
function keyFrom(options: StoreOptions): string | undefined {
  return options.key || process.env.UPROAR_KEY || undefined;
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

/** Begins to connect to the store the options name. */
export function openAt(options: StoreOptions): Store {
  try {
    // Somebody waits for the command to end, so a write that gets no answer fails instead of waiting.
    return connect(options.url, { token: keyFrom(options), outbox: false });
  } catch (error) {
    if (!(error instanceof TypeError)) throw error;
    throw new CommandError(
      `"${options.url}" is not the address of a store.`,
      EXIT.usage,
      'An address reads like http://127.0.0.1:4680.',
    );
  }
}
