import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect } from '@uproar/client';
import { Etcd, freePort } from '../test/etcd.js';
import { ServedProcess } from '../test/served-process.js';
import { temporaryDirectory } from '../test/service.js';
import { Etcd3 } from 'etcd3';
import { KEY, openMany, percentile, sleep, until, type Row } from './harness.js';
import { drive, HttpLane } from './http-lane.js';

const MEASURED_MS = 5000;
const WATCHERS = 300;
const MESSAGES = 200;
const DOCUMENTS = Number(process.env.BENCH_JOINED_DOCUMENTS ?? 1_000_000);

/** A node as a process. */
interface Node {
  process: ServedProcess;
  directory: string;
  port: number;
}

/** Three nodes and three members of etcd, all on this machine, compared with one node alone. */
export async function benchCluster(): Promise<Row[]> {
  const { path, remove } = temporaryDirectory();
  const etcd = await Etcd.start(3, { 'heartbeat-interval': '100', 'election-timeout': '1000' });
  const nodes: Node[] = [];
  const start = async (directory: string, port: number, cluster = true): Promise<Node> => {
    const options = cluster ? ['--cluster', etcd.urls.join(',')] : [];
    const environment = { UPROAR_ADMIN_KEY: KEY };
    return { process: await ServedProcess.start(directory, port, options, environment), directory, port };
  };
  try {
    const alone = await start(join(path, 'alone'), await freePort(), false);
    const single = { one: await write([alone], 1), many: await write([alone], 64) };
    const aloneCpu = await deliver([alone]);
    await alone.process.stop('SIGKILL');
    for (let n = 0; n < 3; n++) nodes.push(await start(join(path, `node-${n}`), await freePort()));
    const rows = [
      await writeRow('1 writer on one of three nodes', nodes.slice(0, 1), 1, single.one),
      await writeRow('64 writers on one of three nodes', nodes.slice(0, 1), 64, single.many),
      await writeRow('63 writers on three nodes', nodes, 63, single.many),
      await bareRow(etcd, nodes),
    ];
    const spreadCpu = await deliver(nodes);
    rows.push({
      benchmark: 'cluster',
      what: `CPU of all nodes for a delivery, ${WATCHERS} watchers on three nodes, compared with all on one node alone`,
      ours: spreadCpu,
      bare: aloneCpu,
      unit: 'µs',
      ratio: spreadCpu / aloneCpu,
      aim: 'at most 1.1',
      reached: spreadCpu / aloneCpu <= 1.1,
    });
    rows.push(...(await failures(etcd, nodes, start)));
    rows.push(await joining(nodes, start, path));
    return rows;
  } finally {
    for (const node of nodes) await node.process.stop('SIGKILL');
    await etcd.stop();
    remove();
  }
}

/** Commits over HTTP. Returns the rate, and the latencies in milliseconds. */
async function write(nodes: readonly Node[], writers: number): Promise<{ rate: number; p50: number; p99: number }> {
  const lanes = await Promise.all(
    Array.from({ length: writers }, (_, n) => HttpLane.open(nodes[n % nodes.length]!.process.url)),
  );
  const put = (lane: HttpLane, n: number) =>
    lane.send('PUT', `/v1/data/balloons/bl-${n % 5000}`, JSON.stringify({ altitude: n % 3000, status: 'aloft' }));
  await drive(lanes, 1500, put);
  const { latencies, seconds, statuses } = await drive(lanes, MEASURED_MS, put);
  for (const lane of lanes) lane.close();
  if ([...statuses.keys()].some((status) => status >= 300)) throw new Error('A write was refused.');
  return { rate: latencies.length / seconds, p50: percentile(latencies, 0.5), p99: percentile(latencies, 0.99) };
}

async function writeRow(
  what: string,
  nodes: readonly Node[],
  writers: number,
  alone: { rate: number; p50: number; p99: number },
): Promise<Row> {
  const { rate, p50, p99 } = await write(nodes, writers);
  const times = (of: { p50: number; p99: number }) => `p50 ${of.p50.toFixed(1)}, p99 ${of.p99.toFixed(1)} ms`;
  return {
    benchmark: 'cluster',
    what: `${what}: commits (${times({ p50, p99 })}), compared with one node alone (${times(alone)})`,
    ours: rate,
    bare: alone.rate,
    unit: 'commits per second',
    ratio: rate / alone.rate,
    aim: 'stated',
    reached: true,
  };
}

/** One writer, compared with plain puts to the same etcd, one at a time. */
async function bareRow(etcd: Etcd, nodes: readonly Node[]): Promise<Row> {
  const client = new Etcd3({ hosts: etcd.urls });
  const value = 'x'.repeat(300);
  const start = performance.now();
  let puts = 0;
  while (performance.now() - start < MEASURED_MS) {
    await client.put('bare').value(value);
    puts++;
  }
  const bare = (puts * 1000) / (performance.now() - start);
  client.close();
  const { rate } = await write(nodes.slice(0, 1), 1);
  return {
    benchmark: 'cluster',
    what: '1 writer on one of three nodes, compared with puts of 300 bytes to etcd, one at a time',
    ours: rate,
    bare,
    unit: 'commits per second',
    ratio: rate / bare,
    aim: 'stated',
    reached: true,
  };
}

/** CPU of all nodes for each delivery of a change, in microseconds, without that of the commit. */
async function deliver(nodes: readonly Node[]): Promise<number> {
  const writer = connect(nodes[0]!.process.url, { token: KEY });
  const balloons = writer.collection('watched');
  await balloons.put('bl-1', { n: 0 });
  const run = async (watchers: number): Promise<number> => {
    const perNode = Math.ceil(watchers / nodes.length);
    const lists = await Promise.all(
      nodes.map(({ process }) =>
        openMany(perNode, process.url, '/v1/live', (listener) =>
          listener.call('watch', { query: { from: 'watched' } }),
        ),
      ),
    );
    const listeners = lists.flat();
    const before = cpuMs(nodes);
    for (let n = 1; n <= MESSAGES; n++) {
      const counts = listeners.map(({ messages }) => messages);
      await balloons.put('bl-1', { n, watchers });
      await until(() => listeners.every(({ messages }, index) => messages > counts[index]!));
    }
    const used = cpuMs(nodes) - before;
    for (const { socket } of listeners) socket.terminate();
    await sleep(200);
    return used;
  };
  await run(nodes.length);
  const few = await run(nodes.length);
  const many = await run(WATCHERS);
  writer.close();
  return ((many - few) * 1000) / MESSAGES / (WATCHERS - nodes.length);
}

function cpuMs(nodes: readonly Node[]): number {
  return nodes.reduce((sum, { process }) => {
    const fields = readFileSync(`/proc/${process.child.pid}/stat`, 'utf8').split(') ')[1]!.split(' ');
    return sum + (Number(fields[11]) + Number(fields[12])) * 10;
  }, 0);
}

/** How long writers get no answer when a node, and when the leader of etcd, is killed. */
async function failures(
  etcd: Etcd,
  nodes: Node[],
  start: (directory: string, port: number) => Promise<Node>,
): Promise<Row[]> {
  const rows: Row[] = [];
  const pauses = async (fault: () => Promise<() => Promise<void>>): Promise<{ write: number; watch: number }> => {
    const urls = nodes.map(({ process }) => process.url);
    // The first address is the one that is lost.
    const client = connect(urls, { token: KEY });
    while (client.url !== urls[0]) {
      client.close();
      return pauses(fault);
    }
    const watch = client.collection('pauses').watch();
    let lastWrite = performance.now();
    let lastView = performance.now();
    const longest = { write: 0, watch: 0 };
    watch.subscribe(({ state }) => {
      if (state !== 'live') return;
      longest.watch = Math.max(longest.watch, performance.now() - lastView);
      lastView = performance.now();
    });
    let stopped = false;
    const writing = (async () => {
      for (let n = 0; !stopped; n++) {
        await client.collection('pauses').put('one', { n });
        longest.write = Math.max(longest.write, performance.now() - lastWrite);
        lastWrite = performance.now();
      }
    })();
    await sleep(1000);
    longest.write = longest.watch = 0;
    const heal = await fault();
    await sleep(6000);
    stopped = true;
    await writing;
    client.close();
    await heal();
    return longest;
  };
  const found: Record<'node' | 'leader', { write: number; watch: number }[]> = { node: [], leader: [] };
  for (let round = 0; round < 3; round++) {
    found.node.push(
      await pauses(async () => {
        const [{ process, directory, port }] = nodes as [Node];
        await process.stop('SIGKILL');
        return async () => {
          nodes[0] = await start(directory, port);
        };
      }),
    );
    found.leader.push(
      await pauses(async () => {
        const leader = await etcd.leader();
        await etcd.killMember(leader);
        return async () => {
          etcd.startMember(leader);
          await etcd.ready();
        };
      }),
    );
  }
  for (const [kind, what] of [
    ['node', 'a node is killed, for the clients of that node'],
    ['leader', 'the leader of etcd is killed'],
  ] as const) {
    for (const [measure, about, aimMs] of [
      ['write', 'time without an acknowledgement', 3000],
      ['watch', 'time without a change in a view', kind === 'node' ? 1000 : 3000],
    ] as const) {
      const times = found[kind].map((one) => one[measure]);
      rows.push({
        benchmark: 'cluster',
        what: `${about} when ${what}; the median of three, the longest ${Math.round(Math.max(...times))} ms`,
        ours: percentile(times, 0.5),
        bare: aimMs,
        unit: 'ms',
        ratio: percentile(times, 0.5) / aimMs,
        aim: `at most ${aimMs} ms`,
        reached: Math.max(...times) <= aimMs,
      });
    }
  }
  return rows;
}

/** How long a new node takes to copy the store of another one and to serve it. */
async function joining(
  nodes: Node[],
  start: (directory: string, port: number) => Promise<Node>,
  path: string,
): Promise<Row> {
  const lane = await HttpLane.open(nodes[1]!.process.url);
  const started = performance.now();
  for (let n = 0; n < DOCUMENTS; n += 1000) {
    const writes = Array.from({ length: 1000 }, (_, k) => ({
      put: `many/d-${n + k}`,
      data: { n: n + k, status: 'aloft' },
    }));
    const status = await lane.send('POST', '/v1/commits', JSON.stringify({ writes }));
    if (status !== 200) throw new Error(`A commit got the status ${status}.`);
  }
  const writeMs = performance.now() - started;
  lane.close();
  const begun = performance.now();
  const node = await start(join(path, 'joined'), await freePort());
  const tookMs = performance.now() - begun;
  await node.process.stop('SIGKILL');
  return {
    benchmark: 'cluster',
    what: `a new node copies a store of ${DOCUMENTS.toLocaleString('en')} documents and serves it, compared with writing them`,
    ours: tookMs / 1000,
    bare: writeMs / 1000,
    unit: 's',
    ratio: tookMs / writeMs,
    aim: 'stated',
    reached: true,
  };
}
