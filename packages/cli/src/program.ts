import { VERSION } from '@uproar/service/settings';
import { Command } from 'commander';

const OVERVIEW = `
Examples:
  uproar demo                                     a store with sample data to explore
  uproar serve --data ./uproar-data               a store of your own
  uproar put notes/first '{"text":"hello"}'
  uproar watch notes
  uproar query balloons --where "altitude > 300"
  uproar doctor                                   when something is wrong

Which store:
  --url, --key and --profile; or UPROAR_URL, UPROAR_KEY and UPROAR_PROFILE; or the default
  of "uproar profile list". serve has settings of its own: uproar serve --print-settings
  NO_COLOR leaves colours out; output that goes elsewhere than to a terminal has none.

Exit codes:
  0 done      1 failed    2 called wrongly     3 store not reached   4 key not accepted
  5 not found 6 conflict  7 check found faults 130 ended by Ctrl-C`;

type AddCommand = (program: Command) => void;

/** The commands in the order of the overview, each in a module of its own that is loaded when it is needed. */
const COMMANDS: readonly (readonly [name: string, load: () => Promise<AddCommand>])[] = [
  ['serve', async () => (await import('./commands/serve.js')).addServe],
  ['demo', async () => (await import('./commands/demo.js')).addDemo],
  ['status', async () => (await import('./commands/status.js')).addStatus],
  ['doctor', async () => (await import('./commands/doctor.js')).addDoctor],
  ['get', async () => (await import('./commands/get.js')).addGet],
  ['query', async () => (await import('./commands/query.js')).addQuery],
  ['put', async () => (await import('./commands/write.js')).addPut],
  ['merge', async () => (await import('./commands/write.js')).addMerge],
  ['adjust', async () => (await import('./commands/write.js')).addAdjust],
  ['delete', async () => (await import('./commands/write.js')).addDelete],
  ['erase', async () => (await import('./commands/erase.js')).addErase],
  ['present', async () => (await import('./commands/present.js')).addPresent],
  ['edit', async () => (await import('./commands/edit.js')).addEdit],
  ['watch', async () => (await import('./commands/watch.js')).addWatch],
  ['shapes', async () => (await import('./commands/shapes.js')).addShapes],
  ['schema', async () => (await import('./commands/schema.js')).addSchema],
  ['types', async () => (await import('./commands/types.js')).addTypes],
  ['rewrite', async () => (await import('./commands/rewrite.js')).addRewrite],
  ['journal', async () => (await import('./commands/journal.js')).addJournal],
  ['revert', async () => (await import('./commands/revert.js')).addRevert],
  ['import', async () => (await import('./commands/import.js')).addImport],
  ['export', async () => (await import('./commands/export.js')).addExport],
  ['cluster', async () => (await import('./commands/cluster.js')).addCluster],
  ['backup', async () => (await import('./commands/backup.js')).addBackup],
  ['restore', async () => (await import('./commands/restore.js')).addRestore],
  ['check', async () => (await import('./commands/check.js')).addCheck],
  ['index', async () => (await import('./commands/index-commands.js')).addIndex],
  ['hook', async () => (await import('./commands/hook.js')).addHook],
  ['policy', async () => (await import('./commands/policy.js')).addPolicy],
  ['setup', async () => (await import('./commands/setup.js')).addSetup],
  ['key', async () => (await import('./commands/key.js')).addKey],
  ['account', async () => (await import('./commands/account.js')).addAccount],
  ['audit', async () => (await import('./commands/account.js')).addAudit],
  ['devices', async () => (await import('./commands/devices.js')).addDevices],
  ['usage', async () => (await import('./commands/usage.js')).addUsage],
  ['bench', async () => (await import('./commands/bench.js')).addBench],
  ['conformance', async () => (await import('./commands/conformance.js')).addConformance],
  ['profile', async () => (await import('./commands/profile.js')).addProfile],
  ['completion', async () => (await import('./commands/completion.js')).addCompletion],
];

/** Commands that describe the others. */
const NEED_ALL = ['help', 'completion', 'suggest'];

/**
 * Builds the command line.
 *
 * @param wanted the command that will run, if it is known: then no other one is loaded
 */
export async function buildProgram(wanted?: string): Promise<Command> {
  const program = new Command('uproar')
    .description('A live document store: many devices write, and every connected view updates at once.')
    .version(VERSION)
    .showHelpAfterError('(run with --help for usage)')
    .exitOverride()
    .addHelpText('after', OVERVIEW);
  if (wanted === '--version' || wanted === '-V') return program;
  const only = NEED_ALL.includes(wanted ?? '') ? undefined : COMMANDS.find(([name]) => name === wanted);
  for (const [, load] of only ? [only] : COMMANDS) (await load())(program);
  return program;
}
