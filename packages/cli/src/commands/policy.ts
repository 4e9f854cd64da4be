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
    .summary('show, set, try and test the policy')
    .description('The policy says who may read, create, update and delete which documents. It does not apply to keys.')
    .addHelpText('after', '\nExample:\n  uproar policy set policy.yaml --check');
  withStoreOptions(policy.command('show', { isDefault: true }))
    .description('Prints the policy in force, or an earlier version.')
    .addHelpText('after', '\nExample:\n  uproar policy show')
    .argument('[version]', 'a version from "policy versions"')
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
    .description('Validates a policy and applies it. Takes effect at once, also in open views.')
    .argument('<file>', 'a file in YAML or JSON; - for standard input')
    .option('--check', 'only check it')
    .option('--note <text>', 'what it is for')
    .option('--json', 'print the result as JSON')
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
    .option('--json', 'print one JSON object per line')
    .action((options: Options) =>
      useStore(options, async (store) => {
        const { versions } = await store.fetch<{ versions: PolicyVersion[] }>('/v1/policy/versions');
        if (options.json) versions.forEach(printJson);
        else if (versions.length === 0) process.stdout.write('No policy is set. Only keys have access.\n');
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
    .description('Restores an earlier version as a new version.')
    .addHelpText('after', '\nExample:\n  uproar policy revert 3')
    .argument('<version>', 'the version from "policy versions"')
    .action((version: string, options: Options) =>
      useStore(options, async (store) => {
        const answer = await store.post<PolicyAnswer>('/v1/policy/revert', { version: parseVersion(version) });
        process.stdout.write(`${pc.green('in force')} version ${answer.version}, as version ${version}\n`);
      }),
    );
  addTry(policy);
  policy
    .command('test')
    .description('Runs test cases against a policy. Needs no store if the files name a policy file.')
    .argument('<files...>', 'test cases in YAML or JSON')
    .option('--policy <file>', 'the policy file to test, instead of the one in the test files')
    .option('--url <url>', 'test the policy of this store (or UPROAR_URL)', process.env.UPROAR_URL || undefined)
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
    .description('Evaluates the policy for an action and explains the decision, without executing it.')
    .argument('<what>', RULES.join(', '))
    .argument('<address>', 'a collection or a document: flights, flights/f-1')
    .option('--claims <json>', 'claims of the caller: {"sub":"ada","role":"crew"}')
    .option('--account <name>', 'an account of the store')
    .addOption(new Option('--anonymous', 'an anonymous caller').conflicts(['claims', 'account']))
    .option('--data <json>', 'the data after the write')
    .option('--merge <json>', 'the changes to merge')
    .option('--before <json>', 'the data before the write, instead of the data in the store')
    .option('--policy <file>', 'a policy to evaluate instead of the present one')
    .option('--json', 'print the decision as JSON')
    .addHelpText(
      'after',
      '\nThe exit code is 0 if the action is allowed and 4 if not.\n\nExamples:\n  uproar policy try read flights/f-1 --claims \'{"crew":"c-2"}\'\n  uproar policy try update flights/f-1 --account ada --merge \'{"status":"landed"}\' --policy policy.yaml',
    )
    .action(tryIt);
}

interface TryOptions extends Options {
  claims?: string;
  account?: string;
  anonymous?: boolean;
  data?: string;
  merge?: string;
  before?: string;
  policy?: string;
}

async function tryIt(what: string, address: string, options: TryOptions): Promise<void> {
  if (!RULES.includes(what as RuleName)) {
    throw new CommandError(`"${what}" is not an action of the policy.`, EXIT.usage, `There are: ${RULES.join(', ')}.`);
  }
  const { collection, id } = parseAddress(address);
  const data = (name: 'data' | 'merge' | 'before'): JsonObject | undefined =>
    options[name] === undefined ? undefined : parseObject(options[name], `--${name}`);
  const attempt = {
    as: options.anonymous
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
      ? `${pc.green('valid')} Nothing was changed; the policy in force is version ${answer.version}\n`
      : `${pc.green('in force')} version ${answer.version}\n`,
  );
}

function parseVersion(text: string): number {
  if (/^[1-9]\d{0,8}$/.test(text)) return Number(text);
  throw new CommandError(`"${text}" is no version.`, EXIT.usage, '"uproar policy versions" lists them.');
}
