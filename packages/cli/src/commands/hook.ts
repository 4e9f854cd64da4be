import type { Delivery, DeliveryDetails, DeliveryResult, HookInfo, NewHook } from '@uproar/protocol';
import { Option, type Command } from 'commander';
import pc from 'picocolors';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { formatAge, printJson, printTable } from '../output/output.js';
import { parseDuration } from '../settings/amounts.js';

type Options = StoreOptions & { json?: boolean };

/** The options that say what a hook delivers. */
interface DefinitionOptions {
  collection?: string;
  to?: string;
  where?: string;
  kinds?: string;
  fields?: string;
  format?: string;
  claims?: string;
  parallel?: string;
  timeout?: string;
}

/** `uproar hook`: changes that are delivered to other servers. */
export function addHook(program: Command): void {
  const hook = program
    .command('hook')
    .summary('deliver changes to other servers over HTTP')
    .description('A hook posts every change of a collection to an address, as signed CloudEvents. See docs/hooks.md.')
    .addHelpText(
      'after',
      '\nExamples:\n' +
        '  uproar hook create landings --collection flights --where "status = \'landed\'" --to https://radio.example/landings\n' +
        '  uproar hook test landings\n  uproar hook deliveries landings --failed',
    );
  addList(hook);
  addShow(hook);
  addCreate(hook);
  addChange(hook);
  addStates(hook);
  addDeliveries(hook);
}

function addList(hook: Command): void {
  withStoreOptions(hook.command('list', { isDefault: true }))
    .description('Lists the hooks.')
    .addHelpText('after', '\nExample:\n  uproar hook list')
    .option('--json', 'print one JSON object per line')
    .action((options: Options) =>
      useStore(options, async (store) => {
        const { hooks } = await store.fetch<{ hooks: HookInfo[] }>('/v1/hooks');
        if (options.json) hooks.forEach(printJson);
        else if (hooks.length === 0) {
          process.stdout.write('There are no hooks. Create one with: uproar hook create --help\n');
        } else printTable(['name', 'delivers', 'to', 'behind', 'waiting', 'state'], hooks.map(rowOf));
      }),
    );
}

function addShow(hook: Command): void {
  withStoreOptions(hook.command('show'))
    .description('Shows a hook.')
    .argument('<name>', 'the name or id of the hook')
    .option('--json', 'print JSON')
    .addHelpText('after', '\nExample:\n  uproar hook show landings')
    .action((name: string, options: Options) =>
      useStore(options, async (store) => {
        const found = await store.fetch<HookInfo>(pathOf(name));
        if (options.json) printJson(found);
        else show(found);
      }),
    );
}

function addCreate(hook: Command): void {
  withDefinition(withStoreOptions(hook.command('create')))
    .description('Creates a hook and prints its secret. It cannot be shown again.')
    .argument('<name>', 'name of the hook: landings')
    .option('--after <seq>', 'begin with the changes after this seq, not with the next one')
    .option('--json', 'print JSON')
    .addHelpText(
      'after',
      '\nExample:\n  uproar hook create landings --collection flights --kinds updated --to https://radio.example/landings',
    )
    .action((name: string, options: Options & DefinitionOptions & { after?: string }) => {
      if (options.collection === undefined || options.to === undefined) {
        throw new CommandError('A hook needs a collection and an address.', EXIT.usage, 'Add --collection and --to.');
      }
      return useStore(options, async (store) => {
        const after = options.after === undefined ? {} : { after: readSeq(options.after) };
        showSecret(
          'created',
          await store.post<NewHook>('/v1/hooks', { name, ...readDefinition(options), ...after }),
          options,
        );
      });
    });
}

function addChange(hook: Command): void {
  withDefinition(withStoreOptions(hook.command('change')))
    .description('Changes what a hook delivers, or where to. An empty value removes a condition, fields or claims.')
    .argument('<name>', 'the name or id of the hook')
    .option('--json', 'print JSON')
    .addHelpText('after', '\nExample:\n  uproar hook change landings --where "" --parallel 2')
    .action((name: string, options: Options & DefinitionOptions) =>
      useStore(options, async (store) => {
        const answer = await store.request('PATCH', pathOf(name), readDefinition(options));
        const changed = (await answer.json()) as HookInfo;
        if (options.json) printJson(changed);
        else show(changed);
      }),
    );
}

function addStates(hook: Command): void {
  withStoreOptions(hook.command('pause'))
    .description('Pauses a hook. Changes meanwhile are delivered when it goes on.')
    .argument('<name>', 'the name or id of the hook')
    .option('--reason <text>', 'why')
    .addHelpText('after', '\nExample:\n  uproar hook pause landings --reason "new receiver"')
    .action((name: string, options: Options & { reason?: string }) =>
      useStore(options, async (store) => {
        const { reason } = options;
        await store.post(`${pathOf(name)}/pause`, reason === undefined ? {} : { reason });
        process.stdout.write(`${pc.green('paused')} ${name}\n`);
      }),
    );
  withStoreOptions(hook.command('resume'))
    .description('Lets a hook go on where it was, or after another seq.')
    .argument('<name>', 'the name or id of the hook')
    .option('--after <seq>', 'deliver again from an earlier seq, or leave out what is before a later one')
    .addHelpText('after', '\nExamples:\n  uproar hook resume landings\n  uproar hook resume landings --after 1200')
    .action((name: string, options: Options & { after?: string }) =>
      useStore(options, async (store) => {
        const after = options.after === undefined ? {} : { after: readSeq(options.after) };
        const { seq } = await store.post<HookInfo>(`${pathOf(name)}/resume`, after);
        process.stdout.write(`${pc.green('resumed')} ${name} after seq ${seq}\n`);
      }),
    );
  withStoreOptions(hook.command('rotate'))
    .description('Replaces the secret of a hook and prints it.')
    .argument('<name>', 'the name or id of the hook')
    .option('--keep-old <time>', 'how long deliveries are signed with the old secret, too: 10m, 24h', '24h')
    .option('--json', 'print JSON')
    .addHelpText('after', '\nExample:\n  uproar hook rotate landings --keep-old 1h')
    .action((name: string, options: Options & { keepOld: string }) =>
      useStore(options, async (store) => {
        const keepOldSeconds = Math.round((parseDuration(options.keepOld) ?? 0) / 1000);
        showSecret('rotated', await store.post<NewHook>(`${pathOf(name)}/rotate`, { keepOldSeconds }), options);
      }),
    );
  withStoreOptions(hook.command('remove'))
    .description('Removes a hook.')
    .argument('<name>', 'the name or id of the hook')
    .addHelpText('after', '\nExample:\n  uproar hook remove landings')
    .action((name: string, options: Options) =>
      useStore(options, async (store) => {
        await store.request('DELETE', pathOf(name));
        process.stdout.write(`${pc.green('removed')} ${name}\n`);
      }),
    );
  withStoreOptions(hook.command('test'))
    .description('Sends a test event now, and prints what the receiver answers.')
    .argument('<name>', 'the name or id of the hook')
    .option('--json', 'print JSON')
    .addHelpText('after', '\nExample:\n  uproar hook test landings')
    .action((name: string, options: Options) =>
      useStore(options, async (store) =>
        showResult(await store.post<DeliveryResult>(`${pathOf(name)}/test`, {}), options),
      ),
    );
}

function addDeliveries(hook: Command): void {
  withStoreOptions(hook.command('deliveries'))
    .description('Lists the latest deliveries, or shows one with what was sent.')
    .argument('<name>', 'the name or id of the hook')
    .argument('[number]', 'the number of a delivery')
    .option('--failed', 'only failed ones')
    .option('--limit <number>', 'how many', '20')
    .option('--json', 'print JSON, one object per line')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar hook deliveries landings --failed\n  uproar hook deliveries landings 118',
    )
    .action((name: string, number: string | undefined, options: Options & { failed?: boolean; limit: string }) =>
      useStore(options, async (store) => {
        if (number !== undefined) {
          const found = await store.fetch<DeliveryDetails>(`${pathOf(name)}/deliveries/${readNumber(number)}`);
          return options.json ? printJson(found) : showDelivery(found);
        }
        const query = new URLSearchParams({ limit: options.limit, failed: String(options.failed ?? false) });
        const path = `${pathOf(name)}/deliveries?${String(query)}`;
        const { deliveries } = await store.fetch<{ deliveries: Delivery[] }>(path);
        if (options.json) deliveries.forEach(printJson);
        else if (deliveries.length === 0) process.stdout.write('There are none on record.\n');
        else {
          const headings = ['number', 'when', 'change', 'document', 'seq', 'attempt', 'took', 'answer'];
          printTable(headings, deliveries.map(deliveryRow));
        }
      }),
    );
  withStoreOptions(hook.command('send'))
    .description('Sends a delivery again, now and out of order.')
    .argument('<name>', 'the name or id of the hook')
    .argument('<number>', 'the number of the delivery')
    .option('--json', 'print JSON')
    .addHelpText('after', '\nExample:\n  uproar hook send landings 118')
    .action((name: string, number: string, options: Options) =>
      useStore(options, async (store) => {
        const path = `${pathOf(name)}/deliveries/${readNumber(number)}/send`;
        showResult(await store.post<DeliveryResult>(path, {}), options);
      }),
    );
}

function withDefinition(command: Command): Command {
  return command
    .option('--collection <name>', 'the collection whose changes are delivered')
    .option('--to <url>', 'the address that changes are posted to')
    .option('--where <condition>', 'only changes of documents that meet this (CQL2) before or after')
    .option('--kinds <kinds>', 'only these kinds of change: created,updated,deleted')
    .option('--fields <names>', 'send only these fields: name,status')
    .addOption(new Option('--format <format>', 'how CloudEvents are sent').choices(['structured', 'binary']))
    .option('--claims <json>', 'deliver only what the policy lets an identity with these claims read')
    .option('--parallel <number>', 'how many deliveries may be under way at a time, 1 to 32')
    .option('--timeout <time>', 'how long the receiver may take to answer: 15s');
}

function readDefinition(options: DefinitionOptions): Record<string, unknown> {
  const { collection, to, where, kinds, fields, format, claims, parallel, timeout } = options;
  const removable = (text: string | undefined) => (text === '' ? null : text);
  const members = {
    collection,
    url: to,
    where: removable(where),
    kinds: kinds?.split(',').map((part) => part.trim()),
    fields: removable(fields),
    format,
    claims: claims === undefined || claims === '' ? removable(claims) : readClaims(claims),
    parallel: parallel === undefined ? undefined : readNumber(parallel),
    timeoutSeconds: timeout === undefined ? undefined : Math.round(parseDuration(timeout)! / 1000),
  };
  return Object.fromEntries(Object.entries(members).filter(([, value]) => value !== undefined));
}

function readClaims(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    throw new CommandError(`The claims are not JSON: ${text}`, EXIT.usage, `Write them like '{"role":"pilot"}'.`);
  }
}

function readSeq(text: string): number {
  if (/^\d{1,15}$/.test(text)) return Number(text);
  throw new CommandError(
    `"${text}" is no seq.`,
    EXIT.usage,
    'A seq is a whole number: uproar status shows the present one.',
  );
}

function readNumber(text: string): number {
  if (/^\d{1,15}$/.test(text)) return Number(text);
  throw new CommandError(`"${text}" is no number.`, EXIT.usage);
}

const pathOf = (name: string) => `/v1/hooks/${encodeURIComponent(name)}`;

function rowOf(hook: HookInfo): string[] {
  const { name, url, commitsBehind, waiting } = hook;
  const behind = commitsBehind === 0 ? '–' : `${commitsBehind} ${commitsBehind === 1 ? 'commit' : 'commits'}`;
  const documents = waiting === 0 ? '–' : `${waiting} ${waiting === 1 ? 'document' : 'documents'}`;
  return [name, describeSelection(hook), url, behind, documents, describeState(hook)];
}

function describeSelection({ collection, where, kinds }: HookInfo): string {
  const of = kinds.length === 3 ? collection : `${collection} ${kinds.join(', ')}`;
  return where === undefined ? of : `${of} where ${where}`;
}

function describeState({ paused, failing }: HookInfo): string {
  if (paused) return pc.yellow('paused');
  return failing ? pc.red(`failing for ${formatAge(failing.since).replace(' ago', '')}`) : pc.green('delivering');
}

function show(hook: HookInfo): void {
  const { name, url, fields, format, claims, parallel, timeoutSeconds, seq, waiting, paused, failing, missed } = hook;
  const lines: [string, string | undefined][] = [
    ['state', describeState(hook) + (paused ? ` ${formatAge(paused.since)}: ${paused.reason}` : '')],
    ['delivers', describeSelection(hook)],
    ['fields', fields ?? 'all'],
    ['to', url],
    ['format', `${format}, ${parallel} at a time, ${timeoutSeconds} s to answer`],
    ['sees', claims === undefined ? 'everything' : `what the policy shows to ${JSON.stringify(claims)}`],
    [
      'delivered',
      `up to seq ${seq}${waiting === 0 ? '' : `, except of ${waiting} ${waiting === 1 ? 'document' : 'documents'}`}`,
    ],
    [
      'failing',
      failing && `${failing.documents} ${failing.documents === 1 ? 'document' : 'documents'} since ${failing.since}`,
    ],
    ['missed', missed && `the commits after seq ${missed.after} up to ${missed.upTo}, which the journal had lost`],
  ];
  process.stdout.write(`${pc.bold(name)}\n`);
  for (const [label, text] of lines)
    if (text !== undefined) process.stdout.write(`  ${pc.dim(label.padEnd(10))} ${text}\n`);
}

function showSecret(what: string, made: NewHook, { json }: Options): void {
  if (json) return printJson(made);
  process.stdout.write(`${pc.green(what)} ${made.name}. Its secret, shown only now:\n\n  ${pc.bold(made.secret)}\n`);
}

function deliveryRow(delivery: Delivery): string[] {
  const { number, time, type, subject, seq, attempt, durationMs } = delivery;
  const change = type.split('.').at(-1)!;
  return [
    String(number),
    formatAge(time),
    change,
    subject ?? '–',
    String(seq),
    String(attempt),
    `${Math.round(durationMs)} ms`,
    describeAnswer(delivery),
  ];
}

function describeAnswer({ delivered, status, error }: DeliveryResult): string {
  const text = status === undefined ? error! : String(status);
  return delivered ? pc.green(text) : pc.red(text);
}

function showResult(result: DeliveryResult, { json }: Options): void {
  if (json) printJson(result);
  else {
    const what = result.delivered ? pc.green('taken') : pc.red('not taken');
    process.stdout.write(`${what} after ${Math.round(result.durationMs)} ms: ${describeAnswer(result)}\n`);
    if (result.answer !== undefined) process.stdout.write(`${result.answer}\n`);
  }
  if (!result.delivered) process.exitCode = EXIT.failed;
}

function showDelivery(delivery: DeliveryDetails): void {
  const { number, subject, type, time, attempt, request, answer } = delivery;
  process.stdout.write(`${pc.bold(`${number}  ${subject ?? type}`)}  ${pc.dim(`${time}, attempt ${attempt}`)}\n\n`);
  if (request) {
    process.stdout.write(`POST ${request.url}\n`);
    for (const [name, value] of Object.entries(request.headers))
      process.stdout.write(`${pc.dim(`${name}:`)} ${value}\n`);
    process.stdout.write(`\n${request.body}\n\n`);
  } else
    process.stdout.write(pc.dim('What was sent cannot be shown: the journal does not have the change any more.\n\n'));
  process.stdout.write(`${describeAnswer(delivery)} ${pc.dim(`after ${Math.round(delivery.durationMs)} ms`)}\n`);
  if (answer !== undefined) process.stdout.write(`${answer}\n`);
}
