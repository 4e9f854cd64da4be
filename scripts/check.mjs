// Runs every check and all short tests, as CI does: `npm run check`.
import { spawn } from 'node:child_process';
import { makeReady, root, run } from './ready.mjs';

makeReady();
const checks = ['lint', 'types', 'imports'].map((script) => ({ script, result: runQuietly(script) }));
for (const { script, result } of checks) {
  const { code, output, seconds } = await result;
  console.log(`\n# ${script} (${seconds} s)\n${output.trimEnd()}`);
  if (code !== 0) process.exit(1);
}
console.log('\n# tests');
run('npm', ['run', '--silent', 'test']);

/** Runs an npm script beside others. Resolves with its output and exit code. */
function runQuietly(script) {
  const begun = Date.now();
  const child = spawn('npm', ['run', '--silent', script], { cwd: root, stdio: ['ignore', 'pipe', 'pipe'] });
  let output = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (text) => (output += String(text)));
  // When another check fails first, nothing is left running.
  process.on('exit', () => child.kill());
  return new Promise((resolve) =>
    child.on('close', (code) => resolve({ code, output, seconds: Math.round((Date.now() - begun) / 1000) })),
  );
}
