import { existsSync } from 'node:fs';
import { join } from 'node:path';
import type { Store } from '@uproar/client';
import type { SetupAnswer, SetupStep, StoreSetup } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { EXIT } from '../output/exit-codes.js';
import { printJson } from '../output/output.js';

type Options = StoreOptions & { json?: boolean; remove?: boolean; note?: string; dryRun?: boolean };

/** `uproar setup`: the set-up of a store as a folder of files. */
export function addSetup(program: Command): void {
  const setup = program
    .command('setup')
    .summary('keep policy, schemas, indexes and hooks as files, and bring them to a store')
    .description(
      'Keeps the set-up of a store in a folder: policy, policy cases, schemas, indexes, and hooks without secrets. See docs/setup.md.',
    )
    .addHelpText(
      'after',
      '\nExamples:\n  uproar setup save festival\n  uproar setup compare festival\n  uproar setup apply festival --dry-run',
    );
  withStoreOptions(setup.command('save'))
    .description('Writes the set-up of a store into a folder.')
    .argument('<folder>', 'the folder; files of a set-up in it are replaced')
    .addHelpText('after', '\nExample:\n  uproar setup save festival')
    .action((folder: string, options: Options) =>
      useStore(options, async (store) => {
        const { writeSetupFolder } = await import('../setup/folder.js');
        for (const name of writeSetupFolder(folder, await store.fetch<StoreSetup>('/v1/setup'))) {
          process.stdout.write(`${pc.green('written')} ${join(folder, name)}\n`);
        }
      }),
    );
  withStoreOptions(setup.command('compare'))
    .description(
      `Prints the differences between a folder and a store. The exit code is ${EXIT.unsound} if there are any.`,
    )
    .argument('<folder>', 'the folder of the set-up')
    .option('--json', 'print the steps as JSON, one per line')
    .addHelpText('after', '\nExample:\n  uproar setup compare festival')
    .action((folder: string, options: Options) => useStore(options, (store) => compare(store, folder, options)));
  withStoreOptions(setup.command('apply'))
    .description('Gives a store the set-up in a folder, as a whole or not at all.')
    .argument('<folder>', 'the folder of the set-up')
    .option('--dry-run', 'only say what would be done')
    .option('--remove', 'also remove what the store has and the folder does not')
    .option('--note <text>', 'what it is for')
    .option('--json', 'print the answer as JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar setup apply festival --dry-run\n  uproar setup apply festival --remove',
    )
    .action((folder: string, options: Options) => useStore(options, (store) => apply(store, folder, options)));
  setup
    .command('check')
    .description('Checks a folder without a store: policy, its cases, schemas, indexes and hooks.')
    .argument('<folder>', 'the folder of the set-up')
    .addHelpText('after', '\nExample:\n  uproar setup check festival')
    .action(check);
}

async function compare(store: Store, folder: string, { json }: Options): Promise<void> {
  const { readSetupFolder } = await import('../setup/folder.js');
  const setup = readSetupFolder(folder);
  const { steps } = await store.post<SetupAnswer>('/v1/setup', { setup, dryRun: true });
  if (steps.length > 0) process.exitCode = EXIT.unsound;
  if (json) return steps.forEach(printJson);
  if (steps.length === 0) process.stdout.write(`${pc.green('the same')} The store has the set-up in ${folder}.\n`);
  else await print(steps, await store.fetch<StoreSetup>('/v1/setup'), setup);
}

async function apply(store: Store, folder: string, options: Options): Promise<void> {
  const { readSetupFolder } = await import('../setup/folder.js');
  const setup = readSetupFolder(folder);
  const { dryRun = false, remove = false, note, json } = options;
  const before = await store.fetch<StoreSetup>('/v1/setup');
  const answer = await store.post<SetupAnswer>('/v1/setup', { setup, dryRun, remove, note });
  const { steps, warnings, secrets, applied } = answer;
  if (steps.some(({ problem }) => problem)) process.exitCode = EXIT.failed;
  if (json) return printJson(answer);
  await print(steps, before, setup);
  for (const { pointer, message } of warnings) process.stdout.write(`${pc.yellow('warning')} ${pointer}: ${message}\n`);
  const done = steps.filter(({ action }) => action !== 'leave').length;
  const word = applied ? pc.green('applied') : 'dry run:';
  process.stdout.write(`${word} ${done === 0 ? 'nothing to do' : `${done} ${done === 1 ? 'change' : 'changes'}`}\n`);
  for (const [name, secret] of Object.entries(secrets)) {
    process.stdout.write(`\nThe secret of the hook ${name}, shown only now:\n\n  ${pc.bold(secret)}\n`);
  }
}

async function print(steps: readonly SetupStep[], store: StoreSetup, folder: StoreSetup): Promise<void> {
  const { describeStep, diffOf } = await import('../setup/describe-setup.js');
  for (const step of steps) {
    process.stdout.write(`${describeStep(step)}\n`);
    if (step.action === 'change') for (const line of diffOf(step, store, folder)) process.stdout.write(`${line}\n`);
  }
}

async function check(folder: string): Promise<void> {
  const { readSetupFolder, CASES } = await import('../setup/folder.js');
  // What checks policies and schemas is that of the service.
  const { checkSetup } = await import('@uproar/service');
  const faults = checkSetup(readSetupFolder(folder, { ...process.env }));
  for (const { part, name, detail } of faults) process.stdout.write(`${pc.red('wrong')} ${part} ${name}: ${detail}\n`);
  if (faults.length > 0) process.exitCode = EXIT.unsound;
  const cases = join(folder, CASES);
  if (existsSync(cases)) {
    const { runCases } = await import('../policy/run-cases.js');
    const before = process.exitCode;
    await runCases([cases], {});
    if (before) process.exitCode = before;
  }
  if (faults.length === 0) process.stdout.write(`${pc.green('sound')} ${folder}\n`);
}
