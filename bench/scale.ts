/**
 * A simulation of a store that is spread over several logs: `npm run bench -- scale` prints what `docs/scale.md`
 * quotes. Collections of random popularity are placed on logs; it says how even the load becomes, how many machines serve
 * it, and what a commit over several logs costs.
 */
import { Random } from '../test/random.js';

/** The load. */
const DEVICES = 10_000_000;
const DOCUMENTS = 100_000_000;
const WRITES_PER_DEVICE_S = 1 / 60;
const COLLECTIONS = 2000;
/** Watchers who get each change, on average. */
const WATCHERS_PER_CHANGE = 20;

/** What one log carried in docs/benchmarks.md, with everything on two cores, rounded; and half of what a core delivers. */
const LOG_COMMITS_S = 1500;
const NODE_DELIVERIES_S = 50_000;
const NODE_CONNECTIONS = 20_000;
const NODE_DOCUMENTS = 10_000_000;
/** A copy of each log on so many nodes with data. */
const COPIES = 3;

interface Part {
  load: number;
  documents: number;
}

/** Popularity by a power law: a few collections get most writes. */
function makeCollections(random: Random): Part[] {
  const weights = Array.from({ length: COLLECTIONS }, (_, rank) => 1 / (rank + 1) ** 0.9);
  const total = weights.reduce((sum, weight) => sum + weight, 0);
  const writes = DEVICES * WRITES_PER_DEVICE_S;
  return weights.map((weight) => ({
    load: (writes * weight) / total,
    documents: ((DOCUMENTS * weight) / total) * (0.5 + random.next()),
  }));
}

/** Places parts on logs by a hash of their names, as clients can do without asking. */
function placeByHash(parts: readonly Part[], logs: number, random: Random): number[] {
  const loads = Array.from({ length: logs }, () => 0);
  for (const { load } of parts) loads[random.integer(0, logs - 1)]! += load;
  return loads;
}

/** Places the largest part on the log with the least load, again and again; a table says where each is. */
function placeByTable(parts: readonly Part[], logs: number): number[] {
  const loads = Array.from({ length: logs }, () => 0);
  for (const { load } of [...parts].sort((one, other) => other.load - one.load)) {
    loads[loads.indexOf(Math.min(...loads))]! += load;
  }
  return loads;
}

/** Splits collections that are more than a log carries into ranges of ids. */
function split(parts: readonly Part[], most: number): Part[] {
  return parts.flatMap((part) => {
    const pieces = Math.max(1, Math.ceil(part.load / most));
    return Array.from({ length: pieces }, () => ({ load: part.load / pieces, documents: part.documents / pieces }));
  });
}

/** The time of a commit over `logs` logs: two rounds, each as long as the slowest. */
function spanningCommit(logs: number, random: Random): number[] {
  const round = () => 4 - 3 * Math.log(1 - random.next());
  const slowest = () => Math.max(...Array.from({ length: logs }, round));
  return Array.from({ length: 20_000 }, () => (logs === 1 ? round() : slowest() + slowest())).sort((a, b) => a - b);
}

const random = new Random(7);
const collections = makeCollections(random);
const writes = DEVICES * WRITES_PER_DEVICE_S;
const least = Math.ceil(writes / LOG_COMMITS_S);
console.log(
  `${Math.round(writes).toLocaleString('en')} commits a second need at least ${least} logs of ${LOG_COMMITS_S} each.`,
);

const parts = split(collections, LOG_COMMITS_S / 4);
for (const [name, placed] of [
  ['whole collections, by hash', placeByHash(collections, least * 2, random)],
  ['whole collections, by table', placeByTable(collections, least * 2)],
  ['ranges of ids, by hash', placeByHash(parts, least * 2, random)],
  ['ranges of ids, by table', placeByTable(parts, Math.ceil(least * 1.1))],
] as const) {
  const max = Math.max(...placed);
  console.log(
    `${name}: ${placed.length} logs, the fullest has ${Math.round((100 * max) / LOG_COMMITS_S)}% of what a log carries`,
  );
}

const logs = Math.ceil(least * 1.1);
const dataNodes = Math.max(logs, Math.ceil(DOCUMENTS / NODE_DOCUMENTS)) * COPIES;
const byDeliveries = Math.ceil((writes * WATCHERS_PER_CHANGE) / NODE_DELIVERIES_S);
const byConnections = Math.ceil(DEVICES / NODE_CONNECTIONS);
console.log(
  `${logs} logs, ${dataNodes} nodes with data (${COPIES} copies), and ${Math.max(byDeliveries, byConnections)} fan-out nodes:`,
);
console.log(
  `  ${byConnections} for ${NODE_CONNECTIONS.toLocaleString('en')} connections each, ${byDeliveries} for the deliveries`,
);
console.log(
  `each fan-out node follows the logs of its views, of ${logs} logs. With 5 views at random for each of 20,000 devices:`,
);
const chosen = 1 - (1 - 5 / logs) ** 20_000;
console.log(
  `  share of logs: ${(100 * chosen).toFixed(0)}%; when devices of one place share a node and 20 logs: ${((100 * 20) / logs).toFixed(0)}%`,
);

for (const spanned of [1, 2, 4]) {
  const times = spanningCommit(spanned, random);
  const at = (share: number) => times[Math.floor(times.length * share)]!.toFixed(1);
  console.log(`a commit over ${spanned} log${spanned > 1 ? 's' : ''}: p50 ${at(0.5)} ms, p99 ${at(0.99)} ms`);
}
