import type { KeyInfo, NewKey } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseDuration } from '../settings/amounts.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { formatAge, printJson, printTable } from '../output/output.js';

type Options = StoreOptions & { json?: boolean };

/** `uproar key`: lists, makes, rotates and revokes keys. */
export function addKey(program: Command): void {
  const key = program
    .command('key')
    .summary('list, make, rotate and revoke keys')
    .description('Keys are for servers and administrators. People and devices use tokens or accounts.')
    .addHelpText('after', '\nExample:\n  uproar key create gate-reader --scope write --collections gates');
  withStoreOptions(key.command('list', { isDefault: true }))
    .description('Lists the keys.')
    .addHelpText('after', '\nExample:\n  uproar key list')
    .option('--json', 'print one JSON object per line')
    .action((options: Options) =>
      useStore(options, async (store) => {
        const { keys } = await store.fetch<{ keys: KeyInfo[] }>('/v1/keys');
        if (options.json) keys.forEach(printJson);
        else if (keys.length === 0) process.stdout.write('There are no keys but the one from UPROAR_ADMIN_KEY.\n');
        else printTable(['name', 'scope', 'collections', 'created', 'last used', 'expires'], keys.map(rowOf));
      }),
    );
  withStoreOptions(key.command('create'))
    .description('Creates a key and prints it. It cannot be shown again.')
    .argument('<name>', 'name of the key: gate-reader')
    .option('--scope <scope>', 'admin, write or read', 'read')
    .option(
      '--collections <names>',
      'restrict the key to these collections: gates,notices; repeatable',
      (given: string, before?: string) => (before ? `${before},${given}` : given),
    )
    .option('--expires-in <time>', 'lifetime: 12h, 90d')
    .option('--json', 'print JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar key create tower --scope admin\n  uproar key create gate-reader --scope write --collections gates --expires-in 30d',
    )
    .action((name: string, options: Options & { scope: string; collections?: string; expiresIn?: string }) =>
      useStore(options, async (store) => {
        const lifetimeMs = parseDuration(options.expiresIn);
        const made = await store.post<NewKey>('/v1/keys', {
          name,
          scope: options.scope,
          collections: options.collections?.split(',').map((part) => part.trim()),
          expires: lifetimeMs === undefined ? undefined : new Date(Date.now() + lifetimeMs).toISOString(),
        });
        show('created', made, options);
      }),
    );
  withStoreOptions(key.command('rotate'))
    .description('Replaces the secret of a key and prints it.')
    .argument('<name>', 'the name or id of the key')
    .option('--keep-old <time>', 'how long the old secret stays valid: 10m, 24h')
    .option('--json', 'print JSON')
    .addHelpText('after', '\nExample:\n  uproar key rotate gate-reader --keep-old 1h')
    .action((name: string, options: Options & { keepOld?: string }) =>
      useStore(options, async (store) => {
        const keepOldSeconds = Math.round((parseDuration(options.keepOld) ?? 0) / 1000);
        const path = `/v1/keys/${encodeURIComponent(name)}/rotate`;
        show('rotated', await store.post<NewKey>(path, { keepOldSeconds }), options);
      }),
    );
  withStoreOptions(key.command('revoke'))
    .description('Revokes a key and closes its connections.')
    .addHelpText('after', '\nExample:\n  uproar key revoke gate-reader')
    .argument('<name>', 'the name or id of the key')
    .action((name: string, options: Options) =>
      useStore(options, async (store) => {
        await store.request('DELETE', `/v1/keys/${encodeURIComponent(name)}`);
        process.stdout.write(`${pc.green('revoked')} ${name}\n`);
      }),
    );
}

function rowOf({ name, scope, collections, created, used, expires }: KeyInfo): string[] {
  return [
    name,
    scope,
    collections?.join(', ') ?? 'all',
    formatAge(created),
    used === undefined ? 'never' : formatAge(used),
    expires === undefined ? 'never' : formatAge(expires),
  ];
}

function show(what: string, made: NewKey, { json }: Options): void {
  if (json) return printJson(made);
  const where = made.collections ? ` for ${made.collections.join(', ')}` : '';
  process.stdout.write(
    `${pc.green(what)} ${made.name}, scope ${made.scope}${where}. Shown only now:\n\n  ${pc.bold(made.key)}\n`,
  );
}
