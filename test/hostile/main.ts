/** Runs every attack against a service, one after the other: `npm run hostile`, or `npm run hostile -- conditions` for some. */
import Table from 'cli-table3';
import { ATTACKS } from './attacks.js';
import { AttackedService, type AttackResult } from './run-attack.js';

/** How long each attack goes on, and how long after it memory is looked at. */
const ATTACK_MS = 8000;
const SETTLE_MS = 4000;

/** The allowed waits on a machine that also runs the attack, in milliseconds, and the allowed memory in MiB. */
const MOST = { waitMs: 2500, peakMiB: 1536 };

const wanted = process.argv.slice(2);
const unknown = wanted.filter((name) => !Object.hasOwn(ATTACKS, name));
if (unknown.length > 0) {
  console.error(`There is no attack ${unknown.join(', ')}; there are ${Object.keys(ATTACKS).join(', ')}.`);
  process.exit(2);
}
const results: AttackResult[] = [];
let service = await AttackedService.start();
for (const name of Object.keys(ATTACKS)) {
  if (wanted.length > 0 && !wanted.includes(name)) continue;
  console.error(`${name}: ${ATTACKS[name]!.about}`);
  const result = await service.attack(name, ATTACK_MS, SETTLE_MS);
  results.push(result);
  const { health, read, longRead, watch } = result.waits;
  const shown = [health, read, longRead, watch].map(Math.round).join(', ');
  const { before, peak, after } = result.memory;
  console.error(`  waits ${shown} ms; memory ${[before, peak, after].map(Math.round).join(', ')} MiB`);
  for (const fault of new Set(result.faults)) console.error(`  ${fault}`);
  if (result.alive) continue;
  console.error('  the service did not survive; another takes its place');
  await service.stop();
  service = await AttackedService.start();
}
await service.stop();

const table = new Table({
  head: ['attack', 'healthz', 'read', 'long read', 'watch', 'memory before', 'peak', 'after', ''],
  colAligns: ['left', 'right', 'right', 'right', 'right', 'right', 'right', 'right', 'left'],
  style: { head: [], border: [] },
});
let failed = 0;
for (const { attack, waits, memory, alive, faults } of results) {
  const worst = Math.max(...Object.values(waits));
  const held = alive && faults.length === 0 && worst <= MOST.waitMs && memory.peak <= MOST.peakMiB;
  if (!held) failed++;
  const ms = (value: number) => `${Math.round(value)} ms`;
  const mib = (value: number) => `${Math.round(value)} MiB`;
  table.push([
    attack,
    ...[waits.health, waits.read, waits.longRead, waits.watch].map(ms),
    ...[memory.before, memory.peak, memory.after].map(mib),
    held ? 'held' : alive ? 'missed' : 'killed',
  ]);
}
process.stdout.write(`${table.toString()}\n`);
process.stdout.write(
  `waits at worst; held: at most ${MOST.waitMs} ms and ${MOST.peakMiB} MiB, and every long read answered afterwards\n`,
);
process.exit(failed === 0 ? 0 : 1);
