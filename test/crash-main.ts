/**
 * Runs crash rounds from the command line: `[kill|power-cut|cluster] [rounds] [seed]`. For a cluster, `BETWEEN_MS` is the
 * pause of a writer between its commits, and `EARLIER_MAIN` the command line of an earlier version to begin with.
 */
import { clusterRounds } from './cluster-rounds.js';
import { NetworkLab } from './network-lab.js';
import { crashRounds, powerCuts } from './crash-rounds.js';
import { Random } from './random.js';

const [kind = 'kill', rounds = '100', seed = String(Date.now() % 1_000_000)] = process.argv.slice(2);
const print = (line: string) => process.stdout.write(`${line}\n`);
if (!['kill', 'power-cut', 'cluster'].includes(kind)) {
  throw new RangeError(`"${kind}" is none of "kill", "power-cut" and "cluster".`);
}
print(`${kind}, seed ${seed}`);
const crash = kind === 'power-cut' ? powerCuts(new Random(Number(seed) + 1)) : undefined;
const report =
  kind === 'cluster'
    ? await clusterRounds(Number(seed), Number(rounds), print, {
        inNetwork: NetworkLab.isPossible,
        betweenMs: Number(process.env.BETWEEN_MS ?? 0),
        earlierMain: process.env.EARLIER_MAIN,
      })
    : await crashRounds(Number(seed), Number(rounds), print, crash);
print(JSON.stringify(report));
process.exit(0);
