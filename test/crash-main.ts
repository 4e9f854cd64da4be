/** Runs crash rounds from the command line: `[kill|power-cut] [rounds] [seed]`. */
import { crashRounds, powerCuts } from './crash-rounds.js';
import { Random } from './random.js';

const [kind = 'kill', rounds = '100', seed = String(Date.now() % 1_000_000)] = process.argv.slice(2);
const print = (line: string) => process.stdout.write(`${line}\n`);
if (!['kill', 'power-cut'].includes(kind)) throw new RangeError(`"${kind}" is neither "kill" nor "power-cut".`);
print(`${kind}, seed ${seed}`);
const crash = kind === 'power-cut' ? powerCuts(new Random(Number(seed) + 1)) : undefined;
const report = await crashRounds(Number(seed), Number(rounds), print, crash);
print(JSON.stringify(report));
process.exit(0);
