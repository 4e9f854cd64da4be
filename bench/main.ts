/** Runs the benchmarks and prints one table: `npm run bench`, or `npm run bench -- match fan-out` for some. All of them make a page. */
import Table from 'cli-table3';
import { benchBulk } from './bulk.js';
import { benchClient } from './client.js';
import { benchCluster } from './cluster.js';
import { benchCold } from './cold.js';
import { benchConsole } from './console.js';
import { benchContention } from './contention.js';
import { benchExpiry } from './expiry.js';
import { benchHooks } from './hooks.js';
import { benchPresence } from './presence.js';
import { benchFanOut } from './fan-out.js';
import { benchFiles } from './files.js';
import type { Row } from './harness.js';
import { benchLatency } from './latency.js';
import { benchMatch } from './match.js';
import { benchMemory } from './memory.js';
import { benchOrdered } from './ordered.js';
import { benchPolicy } from './policy.js';
import { benchQuery } from './query.js';
import { benchRelated } from './related.js';
import { describe, HEADINGS, report } from './report.js';
import { benchResume } from './resume.js';
import { benchSlowDisk } from './slow-disk.js';
import { benchSocketWrite } from './socket-write.js';
import { benchWrite } from './write.js';

const BENCHMARKS: Record<string, () => Row[] | Promise<Row[]>> = {
  match: benchMatch,
  'fan-out': benchFanOut,
  latency: benchLatency,
  memory: benchMemory,
  resume: benchResume,
  query: benchQuery,
  ordered: benchOrdered,
  write: benchWrite,
  'socket-write': benchSocketWrite,
  'slow-disk': benchSlowDisk,
  bulk: benchBulk,
  cold: benchCold,
  contention: benchContention,
  expiry: benchExpiry,
  hooks: benchHooks,
  presence: benchPresence,
  client: benchClient,
  policy: benchPolicy,
  related: benchRelated,
  files: benchFiles,
  console: benchConsole,
  cluster: benchCluster,
};

const wanted = process.argv.slice(2);
const unknown = wanted.filter((name) => !Object.hasOwn(BENCHMARKS, name));
if (unknown.length > 0) {
  console.error(`There is no benchmark ${unknown.join(', ')}; there are ${Object.keys(BENCHMARKS).join(', ')}.`);
  process.exit(2);
}
/** A benchmark that takes longer hangs. */
const LIMIT_MS = 10 * 60_000;

const rows: Row[] = [];
const failed: string[] = [];
for (const [name, run] of Object.entries(BENCHMARKS)) {
  if (wanted.length > 0 && !wanted.includes(name)) continue;
  console.error(`running ${name}`);
  const started = performance.now();
  const timer = setTimeout(() => {
    console.error(`The benchmark ${name} has not ended within ${LIMIT_MS / 60_000} minutes; it hangs.`);
    process.exit(1);
  }, LIMIT_MS);
  try {
    rows.push(...(await run()));
  } catch (error) {
    failed.push(name);
    console.error(error);
  }
  clearTimeout(timer);
  console.error(`  took ${Math.round((performance.now() - started) / 1000)} s`);
}
const table = new Table({
  head: HEADINGS,
  colWidths: [null, 60],
  wordWrap: true,
  style: { head: [], border: [] },
});
for (const row of rows) table.push(describe(row));
console.log(table.toString());
if (wanted.length === 0) await report(rows, failed);
if (failed.length > 0) console.error(`These benchmarks failed: ${failed.join(', ')}`);
process.exit(failed.length > 0 ? 1 : 0);
