import type { Command } from 'commander';
import pc from 'picocolors';
import { CHECKS } from '../conformance/checks.js';
import { runChecks, type CheckOutcome } from '../conformance/run-checks.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { cutLine, printJson, printTable } from '../output/output.js';
import { parseCount } from '../settings/amounts.js';

interface Options {
  query: string;
  writes?: boolean;
  only?: string;
  seed: number;
  timeout: number;
  list?: boolean;
  json?: boolean;
}

/** `uproar conformance`: tests a client program. */
export function addConformance(program: Command): void {
  program
    .command('conformance')
    .summary('test a client program that you wrote')
    .description(
      'Runs a program against stores of its own, in a temporary directory: with writes, cut and slow links, restarts, changes of the policy and refusals. ' +
        'Reads the states that the program prints, compares them with the store, and shows the exchange where they differ. ' +
        'The address and the token are in UPROAR_URL and UPROAR_KEY, and the query is the last argument.',
    )
    .argument('[program...]', 'the program with its arguments, after --')
    .option('--query <query>', 'what the program watches, with parameters as in an address', 'balloons?limit=none')
    .option('--writes', 'also check commits: the program sends each line of its standard input as a commit')
    .option('--only <checks>', 'run these checks, separated by commas')
    .option('--seed <number>', 'another series of random writes', parseCount, 1)
    .option('--timeout <seconds>', 'how long the program has to show a state', parseCount, 20)
    .option('--list', 'list the checks')
    .option('--json', 'print each outcome as a line of JSON')
    .addHelpText(
      'after',
      `
Examples:
  uproar conformance -- python3 docs/recipes/live.py
  uproar conformance --writes --only commits,cut -- python3 docs/recipes/live.py
  uproar conformance --query "balloons?order=-altitude&limit=5&ordered=true" -- ./board
  uproar conformance --list`,
    )
    .action(conformance);
}

async function conformance(command: string[], options: Options): Promise<void> {
  if (options.list) return listChecks();
  if (command.length === 0) {
    throw new CommandError(
      'The program is missing.',
      EXIT.usage,
      'For example: uproar conformance -- python3 my-client.py',
    );
  }
  const trial = { command, query: options.query, seed: options.seed, timeoutMs: options.timeout * 1000 };
  const outcomes: CheckOutcome[] = [];
  for await (const outcome of runChecks(trial, options.writes ?? false, readNames(options.only))) {
    outcomes.push(outcome);
    if (options.json) printJson(outcome);
    else print(outcome);
  }
  const failed = outcomes.filter(({ state }) => state === 'failed').length;
  if (!options.json) process.stdout.write(`\n${summary(outcomes.length, failed)}\n`);
  if (failed > 0) process.exitCode = EXIT.failed;
}

function summary(all: number, failed: number): string {
  if (failed === 0) return pc.green(`All ${all} checks passed.`);
  return pc.red(`${failed} of ${all} checks failed.`);
}

function readNames(only: string | undefined): string[] | undefined {
  const names = only?.split(',').map((name) => name.trim());
  const unknown = names?.find((name) => !CHECKS.some((check) => check.name === name));
  if (unknown === undefined) return names;
  throw new CommandError(
    `There is no check "${unknown}".`,
    EXIT.usage,
    `The checks are: ${CHECKS.map(({ name }) => name).join(', ')}.`,
  );
}

function listChecks(): void {
  printTable(
    ['check', 'the program …'],
    CHECKS.map(({ name, title, writes }) => [name, writes ? `${title} (with --writes)` : title]),
  );
}

const MARKS = { passed: pc.green('✔'), remark: pc.yellow('!'), failed: pc.red('✖') };

function print({ check, title, state, durationMs, message, details = [], exchange = [] }: CheckOutcome): void {
  const seconds = pc.dim(`${(durationMs / 1000).toFixed(1)} s`);
  const lines = [`${MARKS[state]} ${check.padEnd(9)} ${title} ${seconds}`];
  const colour = state === 'failed' ? pc.red : pc.yellow;
  if (message) lines.push(`  ${colour(message)}`);
  lines.push(...details.map((line) => `    ${line}`));
  if (exchange.length > 0) lines.push(`  The end of the exchange (→ the program, ← the store):`);
  lines.push(...exchange.map((line) => pc.dim(cutLine(`  ${line}`))));
  process.stdout.write(`${lines.join('\n')}\n`);
}
