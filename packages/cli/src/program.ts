import { VERSION } from '@uproar/service/settings';
import { Command } from 'commander';
import { addAccount, addAudit } from './commands/account.js';
import { addBackup } from './commands/backup.js';
import { addBench } from './commands/bench.js';
import { addCheck } from './commands/check.js';
import { addCluster } from './commands/cluster.js';
import { addCompletion } from './commands/completion.js';
import { addConformance } from './commands/conformance.js';
import { addDemo } from './commands/demo.js';
import { addDevices } from './commands/devices.js';
import { addDoctor } from './commands/doctor.js';
import { addEdit } from './commands/edit.js';
import { addErase } from './commands/erase.js';
import { addExport } from './commands/export.js';
import { addGet } from './commands/get.js';
import { addHook } from './commands/hook.js';
import { addImport } from './commands/import.js';
import { addIndex } from './commands/index-commands.js';
import { addJournal } from './commands/journal.js';
import { addKey } from './commands/key.js';
import { addPolicy } from './commands/policy.js';
import { addPresent } from './commands/present.js';
import { addProfile } from './commands/profile.js';
import { addQuery } from './commands/query.js';
import { addRestore } from './commands/restore.js';
import { addRevert } from './commands/revert.js';
import { addServe } from './commands/serve.js';
import { addRewrite } from './commands/rewrite.js';
import { addSchema } from './commands/schema.js';
import { addSetup } from './commands/setup.js';
import { addShapes } from './commands/shapes.js';
import { addTypes } from './commands/types.js';
import { addStatus } from './commands/status.js';
import { addUsage } from './commands/usage.js';
import { addWatch } from './commands/watch.js';
import { addAdjust, addDelete, addMerge, addPut } from './commands/write.js';

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

/** The command line, as it is given: all commands with their options and help. */
export function buildProgram(): Command {
  const program = new Command('uproar')
    .description('A live document store: many devices write, and every connected view updates at once.')
    .version(VERSION)
    .showHelpAfterError('(run with --help for usage)')
    .exitOverride()
    .addHelpText('after', OVERVIEW);

  for (const add of [
    addServe,
    addDemo,
    addStatus,
    addDoctor,
    addGet,
    addQuery,
    addPut,
    addMerge,
    addAdjust,
    addDelete,
    addErase,
    addPresent,
    addEdit,
    addWatch,
    addShapes,
    addSchema,
    addTypes,
    addRewrite,
    addJournal,
    addRevert,
    addImport,
    addExport,
    addCluster,
    addBackup,
    addRestore,
    addCheck,
    addIndex,
    addHook,
    addPolicy,
    addSetup,
    addKey,
    addAccount,
    addAudit,
    addDevices,
    addUsage,
    addBench,
    addConformance,
    addProfile,
    addCompletion,
  ])
    add(program);
  return program;
}
