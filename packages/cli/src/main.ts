#!/usr/bin/env node
import { VERSION } from '@uproar/service/settings';
import { Command, CommanderError } from 'commander';
import { addAccount, addAudit } from './commands/account.js';
import { addBackup } from './commands/backup.js';
import { addCheck } from './commands/check.js';
import { addDemo } from './commands/demo.js';
import { addEdit } from './commands/edit.js';
import { addExport } from './commands/export.js';
import { addGet } from './commands/get.js';
import { addImport } from './commands/import.js';
import { addIndex } from './commands/index-commands.js';
import { addJournal } from './commands/journal.js';
import { addKey } from './commands/key.js';
import { addPolicy } from './commands/policy.js';
import { addQuery } from './commands/query.js';
import { addRestore } from './commands/restore.js';
import { addRevert } from './commands/revert.js';
import { addServe } from './commands/serve.js';
import { addStatus } from './commands/status.js';
import { addWatch } from './commands/watch.js';
import { addAdjust, addDelete, addMerge, addPut } from './commands/write.js';
import { EXIT } from './exit-codes.js';
import { reportError } from './report-error.js';

const program = new Command('uproar')
  .description('A live document store: many devices write, and every connected view updates at once.')
  .version(VERSION)
  .showHelpAfterError('(add --help for what there is)')
  .exitOverride();

for (const add of [
  addServe,
  addDemo,
  addStatus,
  addGet,
  addQuery,
  addPut,
  addMerge,
  addAdjust,
  addDelete,
  addEdit,
  addWatch,
  addJournal,
  addRevert,
  addImport,
  addExport,
  addBackup,
  addRestore,
  addCheck,
  addIndex,
  addPolicy,
  addKey,
  addAccount,
  addAudit,
])
  add(program);

// Whoever read the output is gone, as with "head": that is the end, not a failure.
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code === 'EPIPE') process.exit(EXIT.done);
  throw error;
});

try {
  await program.parseAsync();
} catch (error) {
  if (error instanceof CommanderError) process.exitCode = error.exitCode === 0 ? EXIT.done : EXIT.usage;
  else process.exitCode = reportError(error);
}
