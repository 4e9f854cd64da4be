/** Runs crash rounds from the command line: how many, and a seed. */
import { crashRounds } from './crash-rounds.js';

const [rounds = '100', seed = String(Date.now() % 1_000_000)] = process.argv.slice(2);
const print = (line: string) => process.stdout.write(`${line}\n`);
print(`seed ${seed}`);
const report = await crashRounds(Number(seed), Number(rounds), print);
print(JSON.stringify(report));
process.exit(0);
