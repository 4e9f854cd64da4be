// Runs commands one after another in one process: starting a process for each would take most of the time of a test.
import { findNearNames, nearness } from '../packages/core/dist/index.js';
import { CommanderError } from 'commander';
import { buildProgram } from '../packages/cli/dist/program.js';
import { reportError } from '../packages/cli/dist/output/report-error.js';

/** Thrown in place of an exit of the process. */
class Exit extends Error {
  constructor(code) {
    super(`exit with code ${code}`);
    this.code = code;
  }
}

nearness.find = findNearNames;
const inherited = { ...process.env };
process.exit = (code) => {
  throw new Exit(code ?? process.exitCode ?? 0);
};
let out = '';
let err = '';
const collect = (add) => (text, encoding, done) => {
  add(typeof text === 'string' ? text : Buffer.from(text).toString());
  const callback = typeof encoding === 'function' ? encoding : done;
  if (callback) queueMicrotask(callback);
  return true;
};
process.stdout.write = collect((text) => (out += text));
process.stderr.write = collect((text) => (err += text));

process.on('message', async ({ args, environment }) => {
  [out, err, process.exitCode] = ['', '', undefined];
  for (const name of Object.keys(process.env)) delete process.env[name];
  Object.assign(process.env, { PATH: inherited.PATH, NO_COLOR: '1', ...environment });
  let code;
  try {
    await (await buildProgram(args[0])).parseAsync(args, { from: 'user' });
  } catch (error) {
    if (error instanceof Exit) code = error.code;
    else if (error instanceof CommanderError) code = error.exitCode === 0 ? 0 : 2;
    else code = reportError(error);
  }
  process.send({ code: code ?? process.exitCode ?? 0, out, err });
});
process.send('ready');
