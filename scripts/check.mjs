// Runs every check there is, as CI does: `npm run check`.
import { spawn } from 'node:child_process';
import { makeReady, root, run } from './ready.mjs';

makeReady();
// The soak run takes two minutes whatever the machine does; the checks beside it do not mind.
const soak = startQuietly('npm', ['run', '--silent', 'soak', '--', '--minutes', '2']);
for (const [title, script] of [
  ['lint and format', 'lint'],
  ['types', 'types'],
  ['direction of imports', 'imports'],
]) {
  console.log(`\n# ${title}`);
  run('npm', ['run', '--silent', script]);
}
console.log('\n# soak');
const { code, said } = await soak;
console.log(said.trimEnd());
if (code !== 0) process.exit(1);
console.log('\n# tests');
run('npm', ['run', '--silent', 'test']);

/** Starts a command, and gives what it said and how it ended. */
function startQuietly(command, args) {
  const child = spawn(command, args, { cwd: root, stdio: ['ignore', 'pipe', 'pipe'] });
  let said = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (text) => (said += String(text)));
  // When another check fails first, nothing is left running.
  process.on('exit', () => child.kill());
  return new Promise((resolve) => child.on('close', (code) => resolve({ code, said })));
}
