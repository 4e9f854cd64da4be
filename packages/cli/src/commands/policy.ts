import type { JsonObject, Store } from '@uproar/client';
import { RULES, type RuleName } from '@uproar/core';
import type { PolicyAnswer, PolicyDecision, PolicyVersion } from '@uproar/protocol';
import { Option, type Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { formatAge, printJson, printTable } from '../output/output.js';
import { printDecision } from '../policy/print-decision.js';
import { parseObject, readFile } from '../arguments/read-data.js';

type Options = StoreOptions & { json?: boolean };

/** `uproar policy`: who may read, create, update and delete what. */
export function addPolicy(program: Command): void {
  const policy = program
    .command('policy')
    .summary('show, set, try and test who may see and change what')
    .description('The policy says who may read, create, update and delete what. Keys are not bound by it.')
    .addHelpText('after', '\nExample:\n  uproar policy set policy.yaml --check');
  withStoreOptions(policy.command('show', { isDefault: true }))
    .description('Prints the policy in force, or an earlier version.')
    .addHelpText('after', '\nExample:\n  uproar policy show')
    .argument('[version]', 'a version, as policy versions prints it')
    .option('--json', 'print it with its version as JSON')
    .action((version: string | undefined, options: Options) =>
      useStore(options, async (store) => {
        const query = version === undefined ? '' : `?version=${parseVersion(version)}`;
        const found = await store.fetch<PolicyVersion>(`/v1/policy${query}`);
        if (options.json) return printJson(found);
        const by = found.time === undefined ? '' : `, set ${formatAge(found.time)} by ${found.identity}`;
        process.stderr.write(pc.dim(`# version ${found.version}${by}\n`));
        process.stdout.write(found.text.endsWith('\n') ? found.text : `${found.text}\n`);
      }),
    );
  withStoreOptions(policy.command('set'))
    .description('Checks a policy and puts it in force. Open views follow at once.')
    .argument('<file>', 'a file in YAML or JSON; - for the standard input')
    .option('--check', 'only check it')
    .option('--note <text>', 'what it is for')
    .option('--json', 'print the outcome as JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar policy set policy.yaml --check\n  uproar policy set policy.yaml --note "crews see their own flights"',
    )
    .action((file: string, options: Options & { check?: boolean; note?: string }) =>
      useStore(options, (store) => set(store, file, options)),
    );
  withStoreOptions(policy.command('versions'))
    .description('Lists the versions of the policy, newest first.')
    .addHelpText('after', '\nExample:\n  uproar policy versions')
    .option('--json', 'print each as a line of JSON')
    .action((options: Options) =>
      useStore(options, async (store) => {
        const { versions } = await store.fetch<{ versions: PolicyVersion[] }>('/v1/policy/versions');
        if (options.json) versions.forEach(printJson);
        else if (versions.length === 0)
          process.stdout.write('None has been set; nothing is allowed to anybody but keys.\n');
        else
          printTable(
            ['version', 'set', 'by', 'note'],
            versions.map(({ version, time, identity, note }) => [
              String(version),
              formatAge(time!),
              identity!,
              note ?? '',
            ]),
          );
      }),
    );
  withStoreOptions(policy.command('revert'))
    .description('Puts an earlier version in force again, as a new one.')
    .addHelpText('after', '\nExample:\n  uproar policy revert 3')
    .argument('<version>', 'as policy versions prints it')
    .action((version: string, options: Options) =>
      useStore(options, async (store) => {
        const answer = await store.post<PolicyAnswer>('/v1/policy/revert', { version: parseVersion(version) });
        process.stdout.write(`${pc.green('in force')} version ${answer.version}, as version ${version}\n`);
      }),
    );
  addTry(policy);
  policy
    .command('test')
    .description(
      'Runs files of cases: who does what, and whether the policy allows it. Takes no store where they name a policy file.',
    )
    .argument('<files...>', 'files of cases in YAML or JSON')
    .option('--policy <file>', 'the policy to test, instead of the one that the files name')
    .option(
      '--url <url>',
      'where the store is whose policy is tested (or UPROAR_URL)',
      process.env.UPROAR_URL || undefined,
    )
    .option('--key <key>', 'a key of the store (or UPROAR_KEY)')
    .option('--json', 'print each case as a line of JSON')
    .addHelpText('after', '\nExample:\n  uproar policy test policy-cases.yaml')
    .action(
      async (files: string[], options: Partial<StoreOptions> & { policy?: string; json?: boolean }): Promise<void> => {
        // What reads the cases is loaded only where it is used, so that the other commands start quickly.
        const { runCases } = await import('../policy/run-cases.js');
        await runCases(files, options);
      },
    );
}

function addTry(policy: Command): void {
  withStoreOptions(policy.command('try'))
    .description('Tells what the policy says to somebody who would do something, and why, without doing it.')
    .argument('<what>', RULES.join(', '))
    .argument('<address>', 'a collection or a document: flights, flights/f-1')
    .option('--claims <json>', 'the claims of their token: {"sub":"ada","role":"crew"}')
    .option('--account <name>', 'an account of the store')
    .addOption(new Option('--nobody', 'somebody who sends neither key nor token').conflicts(['claims', 'account']))
    .option('--data <json>', 'the data it would have afterwards')
    .option('--merge <json>', 'what would be merged into it')
    .option('--before <json>', 'the data it is to have now, instead of what is in the store')
    .option('--policy <file>', 'a policy to try instead of the one in force')
    .option('--json', 'print the decision as JSON')
    .addHelpText(
      'after',
      '\nThe exit code is 0 when it is allowed and 4 when it is not.\n\nExamples:\n  uproar policy try read flights/f-1 --claims \'{"crew":"c-2"}\'\n  uproar policy try update flights/f-1 --account ada --merge \'{"status":"landed"}\' --policy policy.yaml',
    )
    .action(tryIt);
}

interface TryOptions extends Options {
  claims?: string;
  account?: string;
  nobody?: boolean;
  data?: string;
  merge?: string;
  before?: string;
  policy?: string;
}

async function tryIt(what: string, address: string, options: TryOptions): Promise<void> {
  if (!RULES.includes(what as RuleName)) {
    throw new CommandError(
      `"${what}" is nothing that a policy has rules for.`,
      EXIT.usage,
      `There are: ${RULES.join(', ')}.`,
    );
  }
  const { collection, id } = parseAddress(address);
  const data = (name: 'data' | 'merge' | 'before'): JsonObject | undefined =>
    options[name] === undefined ? undefined : parseObject(options[name], `--${name}`);
  const attempt = {
    as: options.nobody
      ? 'anonymous'
      : options.account === undefined
        ? { claims: parseObject(options.claims ?? '{}', '--claims') }
        : { account: options.account },
    do: what,
    collection,
    id,
    data: data('data'),
    merge: data('merge'),
    before: data('before'),
    text: options.policy === undefined ? undefined : readFile(options.policy),
  };
  await useStore(options, async (store) => {
    const decision = await store.post<PolicyDecision>('/v1/policy/try', attempt);
    if (options.json) printJson(decision);
    else printDecision(`${what} ${address}`, what, decision);
    process.exitCode = decision.allowed ? EXIT.done : EXIT.refused;
  });
}

async function set(store: Store, file: string, options: Options & { check?: boolean; note?: string }): Promise<void> {
  const text = readFile(file === '-' ? '/dev/stdin' : file);
  const response = await store.request('PUT', '/v1/policy', { text, note: options.note, dryRun: options.check });
  const answer = (await response.json()) as PolicyAnswer;
  if (options.json) return printJson(answer);
  for (const { pointer, message } of answer.warnings)
    process.stdout.write(`${pc.yellow('warning')} ${pointer}: ${message}\n`);
  process.stdout.write(
    options.check
      ? `${pc.green('sound')} nothing was altered; in force is version ${answer.version}\n`
      : `${pc.green('in force')} version ${answer.version}\n`,
  );
}

function parseVersion(text: string): number {
  if (/^[1-9]\d{0,8}$/.test(text)) return Number(text);
  throw new CommandError(`"${text}" is no version.`, EXIT.usage, 'policy versions prints them.');
}
