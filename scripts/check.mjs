// Runs every check there is, as CI does: `npm run check`.
import { makeReady, run } from './ready.mjs';

makeReady();
for (const [title, script] of [
  ['lint and format', 'lint'],
  ['types', 'types'],
  ['direction of imports', 'imports'],
  ['tests', 'test'],
]) {
  console.log(`\n# ${title}`);
  run('npm', ['run', '--silent', script]);
}
