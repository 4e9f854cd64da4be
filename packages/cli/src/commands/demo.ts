import { spawn, type ChildProcess } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type Store } from '@uproar/client';
import {
  BOARD_DIRECTORY,
  COLLECTIONS,
  DATA_DIRECTORY,
  DEVICES_PROGRAM,
  drawBalloon,
  FIELD_DIRECTORY,
  PASSWORD,
  PEOPLE,
  PICTURES,
  SETUP_DIRECTORY,
} from '@uproar/demo';
import type { Service } from '@uproar/service';
import { DEFAULT_HOST, DEFAULT_PORT } from '@uproar/service/settings';
import type { CollectionListing } from '@uproar/protocol';
import type { Command } from 'commander';
import { DemoCluster, freeAddress } from '../demo/demo-cluster.js';
import { describeTour } from '../demo/demo-tour.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { importFile } from '../import/import-file.js';
import { readSetupFolder } from '../setup/folder.js';
import { startService, stopped } from '../connect/run-service.js';
import { parsePort } from '../settings/declaration.js';

/** Pages that Vite serves while somebody develops an app against the demo. */
const DEVELOPMENT_ORIGINS = ['http://localhost:5173', 'http://127.0.0.1:5173'];

/** The most nodes of a cluster on one machine. */
const MAX_NODES = 5;

interface Options {
  data?: string;
  host: string;
  port?: string;
  devices: boolean;
  nodes?: string;
}

/** `uproar demo`: a store with the balloon festival in it, and devices that keep it lively. */
export function addDemo(program: Command): void {
  program
    .command('demo')
    .summary('run a store with sample data and simulated devices')
    .description(
      'Runs a store with the data of a made-up balloon festival and simulated devices. Removes the data at the end, unless --data is given.',
    )
    .option('--data <directory>', 'keep the data in this directory')
    .option('--host <host>', 'the address to listen on', DEFAULT_HOST)
    .option('--port <number>', `the port to listen on (default: ${DEFAULT_PORT}, or a free port if it is taken)`)
    .option('--no-devices', 'do not simulate devices')
    .option('--nodes <number>', 'run a cluster of this many nodes on this machine, with three members of etcd')
    .addHelpText('after', '\nExamples:\n  uproar demo --port 4690\n  uproar demo --nodes 3')
    .action(demo);
}

async function demo(options: Options): Promise<void> {
  const temporary = options.data === undefined ? mkdtempSync(join(tmpdir(), 'uproar-demo-')) : undefined;
  const key = process.env.UPROAR_ADMIN_KEY ?? `demo-${randomBytes(18).toString('base64url')}`;
  const nodes = countNodes(options.nodes);
  const directory = (options.data ?? temporary)!;
  let cluster: DemoCluster | undefined;
  let service: Service | undefined;
  let devices: ChildProcess | undefined;
  const stop = stopped();
  try {
    if (nodes > 1) cluster = await DemoCluster.start(directory);
    service = await startAnywhere(options, cluster ? join(directory, 'node-1') : directory, key, cluster);
    await bringInFestival(service.address, key);
    for (let n = 2; n <= nodes; n++) await cluster!.addNode(key);
    const addresses = [service.address, ...(cluster?.nodes ?? []).map(({ address }) => address)];
    if (options.devices) {
      devices = spawn(process.execPath, [DEVICES_PROGRAM, '--url', addresses.join(',')], {
        env: { ...process.env, UPROAR_KEY: key },
        stdio: ['pipe', 'ignore', 'inherit'],
      });
    }
    process.stdout.write(await describeTour(addresses, key, options.data, cluster?.nodes));
    await stop;
  } finally {
    devices?.stdin?.end();
    devices?.kill();
    await service?.close();
    await cluster?.stop();
    if (temporary !== undefined) rmSync(temporary, { recursive: true, force: true });
  }
}

function countNodes(given: string | undefined): number {
  if (given === undefined) return 1;
  const nodes = Number(given);
  if (Number.isInteger(nodes) && nodes >= 1 && nodes <= MAX_NODES) return nodes;
  throw new CommandError(`"${given}" is no number of nodes.`, EXIT.usage, `Choose 1 to ${MAX_NODES}.`);
}

async function startAnywhere(
  options: Options,
  directory: string,
  adminKey: string,
  cluster: DemoCluster | undefined,
): Promise<Service> {
  const settings = {
    directory,
    host: options.host,
    adminKey,
    accounts: 'open' as const,
    pages: { '/board/': BOARD_DIRECTORY, '/field/': FIELD_DIRECTORY },
    allowedOrigins: DEVELOPMENT_ORIGINS,
    // The radio desk listens on this machine.
    hooks: { networks: ['127.0.0.1'] },
  };
  if (cluster) {
    const given = Number(options.port ?? 0);
    const address = given > 0 ? `http://${options.host}:${parsePort(options.port!)}` : await freeAddress();
    const port = Number(new URL(address).port);
    return startService({ ...settings, port, cluster: cluster.optionsFor(address) });
  }
  if (options.port !== undefined) return startService({ ...settings, port: parsePort(options.port) });
  try {
    return await startService({ ...settings, port: DEFAULT_PORT });
  } catch (error) {
    if (!(error instanceof CommandError)) throw error;
    return startService({ ...settings, port: 0 });
  }
}

async function bringInFestival(url: string, key: string): Promise<void> {
  const store = connect(url, { token: key });
  try {
    const { documents: collections } = await store.fetch<CollectionListing>('/v1/collections');
    if (collections.some(({ id }) => id === 'balloons')) return;
    for (const collection of COLLECTIONS)
      await importFile(store, collection, join(DATA_DIRECTORY, `${collection}.ndjson`), {
        onConflict: 'replace',
        resume: false,
      });
    const setup = readSetupFolder(SETUP_DIRECTORY);
    await store.post('/v1/setup', { setup, note: 'the rules of the festival' });
    await uploadPictures(store);
    for (const { name, claims } of PEOPLE) await store.post('/v1/accounts', { name, password: PASSWORD, claims });
  } finally {
    store.close();
  }
}

/** Pictures of the first balloons, drawn in their colours. */
async function uploadPictures(store: Store): Promise<void> {
  const { documents } = await store.collection('balloons').list({ limit: PICTURES });
  for (const { id, data } of documents) {
    const { colours, envelope, name } = data as unknown as {
      colours: string[];
      envelope: { panels: number };
      name: string;
    };
    const picture = new Blob([new Uint8Array(drawBalloon({ colours, panels: envelope.panels }))], {
      type: 'image/png',
    });
    await store.files.upload(picture, { id: `picture-${id}`, name: `${name}.png`, data: { balloonId: id } });
  }
}
