import type { JsonObject } from '@uproar/client';
import type { AccountInfo, AuditEntry } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { formatAge, formatValue, printJson, printTable } from '../output/output.js';
import { parseObject } from '../arguments/read-data.js';

type Options = StoreOptions & { json?: boolean };

/** `uproar account`: the accounts of people and devices. */
export function addAccount(program: Command): void {
  const account = program
    .command('account')
    .summary('list, create, change and remove accounts')
    .description('Accounts for people and devices, if you have no identity provider.')
    .addHelpText('after', '\nExample:\n  uproar account list');
  withStoreOptions(account.command('list', { isDefault: true }))
    .description('Lists the accounts, a hundred at a time.')
    .addHelpText('after', '\nExample:\n  uproar account list')
    .option('--after <id>', 'continue after this account')
    .option('--json', 'print one JSON object per line')
    .action((options: Options & { after?: string }) =>
      useStore(options, async (store) => {
        const path = `/v1/accounts?after=${encodeURIComponent(options.after ?? '')}`;
        const { accounts } = await store.fetch<{ accounts: AccountInfo[] }>(path);
        if (options.json) accounts.forEach(printJson);
        else if (accounts.length === 0)
          process.stdout.write(
            'There are no accounts. Create one with: uproar account create ada --claims \'{"role":"crew"}\'\n',
          );
        else
          printTable(
            ['name', 'id', 'claims', 'created', 'state'],
            accounts.map(({ name, id, claims, created, disabled }) => [
              name ?? pc.dim('guest'),
              id,
              formatValue(claims, 40),
              formatAge(created),
              disabled ? pc.yellow('disabled') : 'active',
            ]),
          );
      }),
    );
  withStoreOptions(account.command('create'))
    .description('Creates an account. The password is read from UPROAR_PASSWORD or standard input.')
    .argument('<name>', 'name for signing in')
    .option('--claims <json>', 'claims for the policy: {"role":"crew"}')
    .option('--json', 'print JSON')
    .addHelpText(
      'after',
      '\nExample:\n  echo "$PASSWORD" | uproar account create ada --claims \'{"role":"crew","crew":"c-2"}\'',
    )
    .action(async (name: string, options: Options & { claims?: string }) => {
      const claims = readClaims(options.claims);
      const password = await readPassword();
      return useStore(options, async (store) => {
        const made = await store.post<AccountInfo>('/v1/accounts', { name, password, claims });
        if (options.json) printJson(made);
        else process.stdout.write(`${pc.green('created')} ${name}, ${made.id}\n`);
      });
    });
  withStoreOptions(account.command('alter'))
    .description('Changes the claims of an account, or disables it. Takes effect at once, also in open watches.')
    .addHelpText('after', '\nExample:\n  uproar account alter ada --disable')
    .argument('<name>', 'the name or id of the account')
    .option('--claims <json>', 'new claims, replacing the old ones')
    .option('--disable', 'sign the account out everywhere and block it')
    .option('--enable', 'unblock the account')
    .option('--password', 'set a new password, from UPROAR_PASSWORD or standard input')
    .action(
      async (
        name: string,
        options: Options & { claims?: string; disable?: boolean; enable?: boolean; password?: boolean },
      ) => {
        const claims = readClaims(options.claims);
        const password = options.password ? await readPassword() : undefined;
        const disabled = options.disable ? true : options.enable ? false : undefined;
        return useStore(options, async (store) => {
          const id = await findId(store, name);
          await store.request('PATCH', `/v1/accounts/${id}`, { claims, disabled, password });
          process.stdout.write(`${pc.green('changed')} ${name}\n`);
        });
      },
    );
  withStoreOptions(account.command('remove'))
    .description('Removes an account. Its documents stay.')
    .addHelpText('after', '\nExample:\n  uproar account remove ada')
    .argument('<name>', 'the name or id of the account')
    .action((name: string, options: Options) =>
      useStore(options, async (store) => {
        await store.request('DELETE', `/v1/accounts/${await findId(store, name)}`);
        process.stdout.write(`${pc.green('removed')} ${name}\n`);
      }),
    );
}

/** `uproar audit`: prints the audit log. */
export function addAudit(program: Command): void {
  withStoreOptions(program.command('audit'))
    .summary('show the audit log: sign-ins, refusals and changes of access')
    .description('The audit log, newest first: sign-ins, changes of keys, accounts and the policy, and refusals.')
    .addHelpText('after', '\nExample:\n  uproar audit')
    .option('--event <kind>', 'only events of this kind: sign-in, refused, policy-changed …')
    .option('--limit <number>', 'the most entries', '50')
    .option('--json', 'print one JSON object per line')
    .action((options: Options & { event?: string; limit: string }) =>
      useStore(options, async (store) => {
        const query = new URLSearchParams({ limit: options.limit, ...(options.event ? { event: options.event } : {}) });
        const { entries } = await store.fetch<{ entries: AuditEntry[] }>(`/v1/audit?${query}`);
        if (options.json) entries.forEach(printJson);
        else if (entries.length === 0) process.stdout.write('The audit log is empty.\n');
        else
          printTable(
            ['when', 'event', 'identity', 'address', 'times', 'detail'],
            entries.map(({ time, event, identity, address, count, detail }) => [
              formatAge(time),
              event,
              formatValue(identity, 30),
              address ?? '–',
              String(count),
              formatValue(String(detail.to ?? Object.values(detail).join(', ')), 60),
            ]),
          );
      }),
    );
}

async function findId(store: { fetch: <R>(path: string) => Promise<R> }, name: string): Promise<string> {
  const path = `/v1/accounts?name=${encodeURIComponent(name)}`;
  const { accounts } = await store.fetch<{ accounts: AccountInfo[] }>(path);
  return encodeURIComponent(accounts[0]?.id ?? name);
}

function readClaims(text: string | undefined): JsonObject | undefined {
  return text === undefined ? undefined : parseObject(text, '--claims');
}

async function readPassword(): Promise<string> {
  const given = process.env.UPROAR_PASSWORD;
  if (given) return given;
  if (process.stdin.isTTY) {
    throw new CommandError('No password was given.', EXIT.usage, 'Set UPROAR_PASSWORD, or send it to standard input.');
  }
  let text = '';
  for await (const piece of process.stdin) text += String(piece);
  return text.replace(/\r?\n$/, '');
}
