/** A process that does what one attack says, until it is ended. */
import { ATTACKS } from './attacks.js';

const [name, url] = process.argv.slice(2) as [string, string];
const { hostname: host, port } = new URL(url);
process.on('uncaughtException', () => undefined);
process.on('unhandledRejection', () => undefined);
// The run that started it ends it; should that run have died, it ends by itself.
setTimeout(() => process.exit(0), 120_000).unref();
process.on('disconnect', () => process.exit(0));
void ATTACKS[name]!.run({ url, host, port: Number(port) });
