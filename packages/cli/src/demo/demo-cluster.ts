import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync } from 'node:fs';
import { createServer, type AddressInfo } from 'node:net';
import { join } from 'node:path';
import type { ServiceOptions } from '@uproar/service';
import { CommandError, EXIT } from '../output/exit-codes.js';

/** Members of etcd: the loss of one is survived. */
const MEMBERS = 3;

/** How long etcd, or a node, may take to start, in milliseconds. */
const START_MS = 60_000;

/** A node in a process of its own. */
export interface DemoNode {
  address: string;
  pid: number;
  /** The command that starts it again, after it was killed. */
  command: string;
}

/** The programs of a cluster on this machine: members of etcd, and all nodes but the first. */
export class DemoCluster {
  readonly #children: ChildProcess[] = [];
  readonly #urls: string[] = [];
  readonly #directory: string;
  readonly nodes: DemoNode[] = [];

  private constructor(directory: string) {
    this.#directory = directory;
  }

  /** Starts etcd in a folder of a directory. */
  static async start(directory: string): Promise<DemoCluster> {
    if (spawnSync('etcd', ['--version']).status !== 0) {
      throw new CommandError(
        '--nodes needs etcd, which is not installed.',
        EXIT.failed,
        'Install it: apt-get install etcd-server',
      );
    }
    const cluster = new DemoCluster(directory);
    const members: { name: string; client: string; peer: string }[] = [];
    for (let n = 1; n <= MEMBERS; n++) {
      members.push({ name: `e${n}`, client: await freeAddress(), peer: await freeAddress() });
    }
    const all = members.map(({ name, peer }) => `${name}=${peer}`).join(',');
    for (const { name, client, peer } of members) {
      const folder = join(directory, `etcd-${name}`);
      mkdirSync(folder, { recursive: true, mode: 0o700 });
      cluster.#run('etcd', [
        ...['--name', name, '--data-dir', folder, '--log-level', 'error', '--initial-cluster', all],
        ...['--listen-client-urls', client, '--advertise-client-urls', client],
        ...['--listen-peer-urls', peer, '--initial-advertise-peer-urls', peer],
      ]);
      cluster.#urls.push(client);
    }
    for (const url of cluster.#urls) await answers(`${url}/health`, '"true"');
    return cluster;
  }

  /** How a node at an address takes part. */
  optionsFor(address: string): NonNullable<ServiceOptions['cluster']> {
    return { address, etcd: { urls: this.#urls, prefix: 'uproar/' } };
  }

  /** Starts another node. */
  async addNode(key: string): Promise<void> {
    const address = await freeAddress();
    const data = join(this.#directory, `node-${this.nodes.length + 2}`);
    const args = [
      'serve',
      '--data',
      data,
      '--port',
      new URL(address).port,
      '--accounts',
      'open',
      '--hook-networks',
      '127.0.0.1',
      '--cluster',
      this.#urls.join(','),
    ];
    const child = this.#run(process.execPath, [process.argv[1]!, ...args], { UPROAR_ADMIN_KEY: key });
    await answers(`${address}/readyz`, 'ready');
    this.nodes.push({ address, pid: child.pid!, command: `UPROAR_ADMIN_KEY=$UPROAR_KEY uproar ${args.join(' ')}` });
  }

  async stop(): Promise<void> {
    for (const child of this.#children.reverse()) {
      if (child.exitCode !== null || child.signalCode !== null) continue;
      const ended = once(child, 'exit');
      child.kill('SIGTERM');
      const timer = setTimeout(() => child.kill('SIGKILL'), 5000);
      await ended;
      clearTimeout(timer);
    }
  }

  #run(command: string, args: string[], environment: Record<string, string> = {}): ChildProcess {
    const child = spawn(command, args, {
      stdio: 'ignore',
      env: { ...process.env, ...environment },
    });
    this.#children.push(child);
    return child;
  }
}

/** An address of this machine with a port that is free now. */
export async function freeAddress(): Promise<string> {
  const server = createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address() as AddressInfo;
  server.close();
  await once(server, 'close');
  return `http://127.0.0.1:${port}`;
}

/** Waits until an address answers with a text. */
async function answers(url: string, text: string): Promise<void> {
  const endsMs = performance.now() + START_MS;
  for (;;) {
    const body = await fetch(url).then(
      (response) => response.text(),
      () => '',
    );
    if (body.includes(text)) return;
    if (performance.now() > endsMs) throw new CommandError(`${url} does not answer.`, EXIT.failed);
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}
