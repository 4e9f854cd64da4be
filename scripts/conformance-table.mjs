// Runs the conformance kit against all clients and recipes, and writes the table of docs/write-a-client.md.
// Usage: node --import tsx scripts/conformance-table.mjs [PROGRAM…]; rows of other programs stay as they are.
import { spawnSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { PROGRAMS } from '../test/conformance/programs.ts';

const MAIN = new URL('../packages/cli/dist/bundled/main.js', import.meta.url).pathname;
const PAGE = new URL('../docs/write-a-client.md', import.meta.url);
const MARKS = { passed: '✔', remark: '!', failed: '✖' };

const wanted = process.argv.slice(2);
const present = [...readFileSync(PAGE, 'utf8').matchAll(/^\| (.*?) \| .*✔.*$/gm)];
const directory = mkdtempSync(join(tmpdir(), 'uproar-table-'));
let checks = [];
const rows = [];
for (const { name, prepare, query, writes, environment } of PROGRAMS) {
  if (wanted.length > 0 && !wanted.some((part) => name.includes(part))) {
    rows.push([name, present.find(([, title]) => title === name)?.[0]]);
    continue;
  }
  const command = await prepare(directory);
  const options = ['--json', ...(query ? ['--query', query] : []), ...(writes ? ['--writes'] : [])];
  const { stdout } = spawnSync(process.execPath, [MAIN, 'conformance', ...options, '--', ...command], {
    env: { ...process.env, ...environment },
    encoding: 'utf8',
  });
  const outcomes = stdout
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line));
  if (outcomes.length > checks.length) checks = outcomes.map(({ check }) => check);
  rows.push([name, Object.fromEntries(outcomes.map(({ check, state }) => [check, MARKS[state]]))]);
  console.log(name, ...outcomes.map(({ check, state }) => `${check} ${state}`));
}
rmSync(directory, { recursive: true });

const line = (cells) => `| ${cells.join(' | ')} |`;
const table = [
  line(['program', ...checks.map((check) => `\`${check}\``)]),
  line(['---', ...checks.map(() => '---')]),
  ...rows.map(([name, states]) =>
    typeof states === 'string' ? states : line([name, ...checks.map((check) => states[check] ?? '–')]),
  ),
].join('\n');
const text = readFileSync(PAGE, 'utf8');
writeFileSync(
  PAGE,
  text.replace(/(<!-- table -->\n)[\s\S]*(\n<!-- end -->)/, (_, begin, end) => begin + table + end),
);
