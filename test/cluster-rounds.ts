import { closeSync, cpSync, mkdirSync, openSync, readdirSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { connect, type Store } from '@uproar/client';
import { Etcd, freePort, type Member, type MemberHost } from './etcd.js';
import { MountedDisks, NetworkLab } from './network-lab.js';
import { Random } from './random.js';
import { ServedProcess } from './served-process.js';
import { KEY, temporaryDirectory, until } from './service.js';

/** What the rounds came to. */
export interface ClusterReport {
  rounds: number;
  acknowledged: number;
  /** How often each fault was made. */
  faults: Record<string, number>;
  /** The longest time without any acknowledged write in the rounds of each fault, in milliseconds. */
  longestPauseMs: Record<string, number>;
}

const NODES = 3;
const WRITERS = 6;

/** Writes go on for so long before and after a fault, in milliseconds. */
const AROUND_MS = 400;

/** Writes must be acknowledged within this time after a fault, in milliseconds, also on a machine with other work. */
const ACKNOWLEDGED_WITHIN_MS = 120_000;

/** The clocks of the nodes are up to five minutes apart. */
const CLOCK_SHIFTS_MS = [0, 150_000, -150_000];
const SHIFT_CLOCK = new URL('shift-clock.mjs', import.meta.url).href;

/** The size of a disk that can be full, in bytes. */
const DISK_BYTES = 1024 * 1024 * 1024;

/** A node that is started again and again on the same directory and port. */
class ClusterNode {
  process: ServedProcess | undefined;
  /** The command line of the version that it runs; undefined for this one. */
  main: string | undefined;

  constructor(
    readonly directory: string,
    readonly port: number,
    private readonly etcd: Etcd,
    private readonly host: MemberHost,
    private readonly clockShiftMs: number,
    /** A file on the same disk, to fill it; undefined if the disk is not its own. */
    private readonly filler: string | undefined,
  ) {}

  get url(): string {
    return `http://${this.host.address}:${this.port}`;
  }

  async start(): Promise<void> {
    const options = ['--cluster', this.etcd.urls.join(','), '--host', this.host.address];
    const environment = { NODE_OPTIONS: `--import=${SHIFT_CLOCK}`, CLOCK_SHIFT_MS: String(this.clockShiftMs) };
    const { directory, port, host } = this;
    this.process = await ServedProcess.start(directory, port, options, environment, host.prefix, this.main);
  }

  /** Stops it as an upgrade does: it takes no new work, and its clients go to other nodes. */
  async stop(): Promise<void> {
    await this.process?.stop('SIGTERM');
    this.process = undefined;
  }

  /** Leaves no room on its disk. Returns a function that makes room again. */
  fillDisk(): () => void {
    const file = openSync(this.filler!, 'w');
    const chunk = Buffer.alloc(65_536);
    try {
      for (;;) writeSync(file, chunk);
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'ENOSPC') throw error;
    } finally {
      closeSync(file);
    }
    return () => rmSync(this.filler!);
  }

  /** What a start without data begins with. */
  clear(): void {
    for (const name of readdirSync(this.directory)) rmSync(join(this.directory, name), { recursive: true });
  }

  async kill(): Promise<void> {
    await this.process?.stop('SIGKILL');
    this.process = undefined;
  }

  signal(signal: NodeJS.Signals): void {
    this.process?.child.kill(signal);
  }
}

/**
 * Runs three nodes and three members of etcd as processes, with writers on all nodes, and makes one fault after another. After
 * each round every node must hold exactly what was acknowledged.
 *
 * @param options.inNetwork whether each process gets a host of its own, so that the network between them can fail, too
 * @param options.betweenMs how long a writer waits between its commits
 * @param options.earlierMain the command line of an earlier version: the nodes begin with it, and the first restart of all
 *   nodes brings them to this one
 * @throws {Error} when an acknowledged write is missing on a node, one is there twice, or nodes differ
 */
export async function clusterRounds(
  seed: number,
  rounds: number,
  log: (line: string) => void,
  { inNetwork = false, betweenMs = 0, earlierMain = undefined as string | undefined } = {},
): Promise<ClusterReport> {
  const random = new Random(seed);
  const { path, remove } = temporaryDirectory();
  const lab = inNetwork ? NetworkLab.create(3 + NODES) : undefined;
  const hostOf = (index: number): MemberHost => lab?.hosts[index] ?? { address: '127.0.0.1', prefix: [] };
  const etcd = await Etcd.start(3, {}, [0, 1, 2].map(hostOf));
  const disks = new MountedDisks();
  const nodes: ClusterNode[] = [];
  const report: ClusterReport = { rounds, acknowledged: 0, faults: {}, longestPauseMs: {} };
  const stores: Store[] = [];
  try {
    for (let n = 0; n < NODES; n++) {
      const disk = join(path, `disk-${n}`);
      mkdirSync(disk);
      if (lab) disks.mount(disk, DISK_BYTES);
      const directory = join(disk, 'data');
      mkdirSync(directory);
      const filler = lab ? join(disk, 'filler') : undefined;
      const node = new ClusterNode(directory, await freePort(), etcd, hostOf(3 + n), CLOCK_SHIFTS_MS[n]!, filler);
      node.main = earlierMain;
      await node.start();
      nodes.push(node);
    }
    const urls = nodes.map(({ url }) => url);
    for (let writer = 0; writer < WRITERS; writer++) {
      // Each begins at another node.
      const own = [...urls.slice(writer % NODES), ...urls.slice(0, writer % NODES)];
      stores.push(connect(own, { token: KEY, backoffMs: (failures) => Math.min(500, 50 * 2 ** failures) }));
    }
    await stores[0]!.commit({
      writes: Array.from({ length: WRITERS }, (_, n) => ({ create: 'counters', id: `w-${n}`, data: { n: 0 } })),
    });
    const counts = stores.map(() => 0);
    const faults = [
      ...faultsFor(random, nodes, etcd, join(path, 'old')),
      ...(lab ? [...networkFaults(random, lab, etcd), diskFault(random, nodes)] : []),
    ];
    let next: typeof faults = [];
    for (let round = 0; round < rounds; round++) {
      let stopped = false;
      let lastMs = performance.now();
      let pauseMs = 0;
      const writers = stores.map(async (store, writer) => {
        for (let n = 0; !stopped; n++) {
          const data = { round, n };
          await store.commit({
            writes: [
              { adjust: `counters/w-${writer}`, by: { '/n': { add: 1 } } },
              { put: `pairs/${writer}-left`, data },
              { put: `pairs/${writer}-right`, data },
            ],
          });
          counts[writer]!++;
          report.acknowledged++;
          pauseMs = Math.max(pauseMs, performance.now() - lastMs);
          lastMs = performance.now();
          if (betweenMs > 0) await sleep(betweenMs);
        }
      });
      await sleep(AROUND_MS);
      // Each fault equally often, in another order each time.
      if (next.length === 0) next = random.shuffle(faults);
      const [name, fault] = next.pop()!;
      report.faults[name] = (report.faults[name] ?? 0) + 1;
      log(`round ${round + 1} of ${rounds}: ${name}; ${report.acknowledged} acknowledged so far`);
      await fault();
      await sleep(AROUND_MS);
      stopped = true;
      await within(Promise.all(writers), ACKNOWLEDGED_WITHIN_MS, () => {
        const states = stores.map(
          (store) => `${store.pending} waiting for ${store.url}: ${JSON.stringify(store.state)}`,
        );
        return `The writes of this round are not acknowledged.\n${states.join('\n')}`;
      });
      report.longestPauseMs[name] = Math.round(Math.max(report.longestPauseMs[name] ?? 0, pauseMs));
      await expectSame(nodes, counts, `round ${round + 1}, after ${name}`);
    }
    return report;
  } finally {
    for (const store of stores) store.close();
    for (const node of nodes) {
      node.signal('SIGCONT');
      await node.kill();
    }
    for (const member of etcd.members) etcd.resumeMember(member);
    await etcd.stop();
    lab?.remove();
    disks.unmount();
    remove();
  }
}

/** The faults, each of which is over when its promise resolves. */
function faultsFor(
  random: Random,
  nodes: readonly ClusterNode[],
  etcd: Etcd,
  oldCopy: string,
): [name: string, make: () => Promise<void>][] {
  const kill = async (node: ClusterNode, meanwhile: () => void = () => undefined) => {
    await node.kill();
    meanwhile();
    await sleep(random.integer(0, 1500));
    await node.start();
  };
  const killMember = async () => {
    const member = random.pick(etcd.members);
    await etcd.killMember(member);
    await sleep(random.integer(0, 3000));
    etcd.startMember(member);
    await etcd.ready();
  };
  const pauseMember = async () => {
    const member = random.pick(etcd.members);
    await etcd.pauseMember(member);
    await sleep(random.integer(1000, 6000));
    etcd.resumeMember(member);
    await etcd.ready();
  };
  return [
    ['a node is killed', () => kill(random.pick(nodes))],
    ['two nodes are killed', () => Promise.all(nodes.slice(1).map((node) => kill(node))).then(() => undefined)],
    [
      'a node is paused, sometimes for longer than its lease',
      async () => {
        const node = random.pick(nodes);
        node.signal('SIGSTOP');
        await sleep(random.pick([1000, 3000, 12_000]));
        node.signal('SIGCONT');
      },
    ],
    ['a member of etcd is killed', killMember],
    ['a member of etcd is paused', pauseMember],
    [
      'a node and a member of etcd are killed',
      () => Promise.all([kill(random.pick(nodes)), killMember()]).then(() => undefined),
    ],
    ['a member of etcd loses its disk and is replaced', () => etcd.replaceMember(random.pick(etcd.members))],
    [
      'all nodes are restarted, one after another',
      async () => {
        for (const node of nodes) {
          await node.stop();
          node.main = undefined;
          await node.start();
          // The others must not go before this one has taken over.
          await sleep(500);
        }
      },
    ],
    [
      'the disk of a node is lost',
      () => {
        const node = random.pick(nodes);
        return kill(node, () => node.clear());
      },
    ],
    [
      'a node gets an old copy of its store',
      async () => {
        const node = random.pick(nodes);
        await kill(node, () => {
          rmSync(oldCopy, { recursive: true, force: true });
          cpSync(node.directory, oldCopy, { recursive: true });
        });
        await sleep(1000);
        await kill(node, () => {
          node.clear();
          cpSync(oldCopy, node.directory, { recursive: true });
        });
      },
    ],
  ];
}

/** Faults of the network between the hosts: members of etcd are on the first three, nodes on the others. */
function networkFaults(random: Random, lab: NetworkLab, etcd: Etcd): [name: string, make: () => Promise<void>][] {
  const isolate = async (index: number) => {
    const host = lab.hosts[index]!;
    lab.setConnected(host, false);
    await sleep(random.pick([2000, 5000, 9000]));
    lab.setConnected(host, true);
    if (index < etcd.members.length) await etcd.ready();
  };
  const indexOf = (member: Member) => etcd.members.indexOf(member);
  const blind = async (one: number, other: number) => {
    const [first, second] = [lab.hosts[one]!, lab.hosts[other]!];
    lab.setSeeing(first, second, false);
    await sleep(random.pick([3000, 8000]));
    lab.setSeeing(first, second, true);
    await etcd.ready();
  };
  return [
    ['the leader of etcd is isolated', async () => isolate(indexOf(await etcd.leader()))],
    ['a member of etcd is isolated', () => isolate(random.integer(0, 2))],
    ['a node is isolated, also from its clients', () => isolate(random.integer(3, 2 + NODES))],
    [
      'the leader of etcd and another member cannot see each other',
      async () => {
        const leader = indexOf(await etcd.leader());
        await blind(leader, (leader + 1) % 3);
      },
    ],
    ['a node cannot see one member of etcd', () => blind(random.integer(3, 2 + NODES), random.integer(0, 2))],
  ];
}

/** A node without room on its disk takes no writes, and goes on where it was when there is room again. */
function diskFault(random: Random, nodes: readonly ClusterNode[]): [name: string, make: () => Promise<void>] {
  return [
    'the disk of a node is full',
    async () => {
      const makeRoom = random.pick(nodes).fillDisk();
      await sleep(random.pick([1000, 4000, 8000]));
      makeRoom();
    },
  ];
}

interface NodeState {
  place: number;
  documents: Record<string, unknown>[];
  events: unknown[];
}

/** Waits until all nodes hold the same. Their places in the log are those of their last reports, so they do not suffice. */
async function expectSame(nodes: readonly ClusterNode[], counts: readonly number[], when: string): Promise<void> {
  let states: NodeState[] = [];
  const [isLevel, isSame] = [
    () => states.length === nodes.length && new Set(states.map(({ place }) => place)).size === 1,
    () => new Set(states.map((state) => JSON.stringify(state))).size === 1,
  ];
  const read = async () => {
    states = await Promise.all(nodes.map(readState)).catch(() => []);
    return isLevel() && isSame();
  };
  await until(`all nodes hold the same (${when})`, read, 60_000).catch((error: unknown) => {
    if (!isLevel()) throw error;
    const found = states.map(({ place, documents }) => JSON.stringify({ place, documents }));
    throw new Error(`The nodes differ (${when}):\n${found.join('\n')}`);
  });
  for (const [writer, count] of counts.entries()) {
    const found = states[0]!.documents.find(({ id }) => id === `w-${writer}`) as { data: { n: number } };
    if (found.data.n !== count) {
      throw new Error(`Writer ${writer} has ${found.data.n} commits, but ${count} were acknowledged (${when}).`);
    }
  }
}

async function readState({ url }: ClusterNode): Promise<NodeState> {
  const get = async (path: string) => {
    const response = await fetch(url + path, { headers: { authorization: `Bearer ${KEY}`, connection: 'close' } });
    if (!response.ok) throw new Error(`${url}${path} answered ${response.status}.`);
    return response.json() as Promise<Record<string, unknown>>;
  };
  const cluster = (await get('/v1/cluster')) as unknown as {
    node: string;
    halted?: string;
    nodes: { node: string; place: number; differs: boolean }[];
  };
  if (cluster.halted !== undefined) throw new Error(cluster.halted);
  const { documents: counters, seq } = (await get('/v1/data/counters')) as { documents: never[]; seq: number };
  const { documents: pairs } = (await get('/v1/data/pairs')) as { documents: never[] };
  const after = Math.max(0, seq - 200);
  const { events } = (await get(`/v1/journal?after=${after}&limit=200`)) as { events: unknown[] };
  const own = cluster.nodes.find(({ node }) => node === cluster.node);
  return { place: own?.place ?? -1, documents: [...counters, ...pairs], events };
}

async function within<Result>(work: Promise<Result>, ms: number, describe: () => string): Promise<Result> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(() => reject(new Error(describe())), ms);
  });
  return Promise.race([work, late]).finally(() => clearTimeout(timer));
}
