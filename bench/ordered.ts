import type { Socket } from 'node:net';
import type { WebSocket } from 'ws';
import { BenchServer, Listener, percentile, sleep, until, type Row } from './harness.js';

const DOCUMENTS = 100_000;
const DEVICES = 100;
const WATCH = { query: { from: 'flights', order: '-altitude', limit: 'none' } };

/** How long the devices waited, and the CPU time of the service. */
interface Joined {
  ms: number;
  cpuMs: number;
}

/** The first result of a view of 100,000 documents in order, for 100 devices that connect at once. */
export async function benchOrdered(): Promise<Row[]> {
  const server = await BenchServer.start('uproar');
  try {
    await fill(server.url);
    const first = await Listener.open(server.url, '/v1/live');
    const { length } = Buffer.from(await first.call('watch', WATCH));
    first.socket.terminate();
    await sleep(500);
    const ones: Joined[] = [];
    for (let round = 0; round < 5; round++) ones.push(await join(server, 1, length));
    const medianOf = (read: (one: Joined) => number) => percentile(ones.map(read), 0.5);
    const before = server.peakBytes;
    const all = await join(server, DEVICES, length);
    const bareMs = await sendBare(length);
    const size = `${DOCUMENTS.toLocaleString('en')} documents in order (${(length / 1e6).toFixed(1)} MB)`;
    return [
      rowOf(
        `first result of ${size}, to the last of ${DEVICES} devices at once, compared with one`,
        [all.ms, medianOf(({ ms }) => ms), 'ms'],
        1.5,
      ),
      rowOf(
        `the same, compared with one and a bare server that sends as many bytes to ${DEVICES} devices (${bareMs.toFixed(0)} ms)`,
        [all.ms, medianOf(({ ms }) => ms) + bareMs, 'ms'],
        1.5,
      ),
      rowOf('the same: CPU of the service', [all.cpuMs, medianOf(({ cpuMs }) => cpuMs), 'ms'], 1.5),
      rowOf(
        'the same: most memory while it is sent, beyond the most that one needs, compared with the size of the result',
        [(server.peakBytes - before) / 1e6, length / 1e6, 'MB'],
        5,
      ),
    ];
  } finally {
    await server.stop();
  }
}

function rowOf(what: string, [ours, bare, unit]: [number, number, string], most: number): Row {
  const ratio = ours / bare;
  return { benchmark: 'ordered', what, ours, bare, unit, ratio, aim: `at most ${most}`, reached: ratio <= most };
}

async function fill(url: string): Promise<void> {
  const writer = await Listener.open(url, '/v1/live');
  for (let part = 0; part < DOCUMENTS; part += 1000) {
    const writes = Array.from({ length: 1000 }, (_, n) => ({
      put: `flights/f-${part + n}`,
      data: { altitude: ((part + n) * 7919) % 3000, status: 'aloft', crewId: `c-${n % 97}` },
    }));
    const answer = await writer.call('commit', { writes });
    if (!answer.includes('"result"')) throw new Error(answer);
  }
  writer.socket.terminate();
}

/** Lets devices begin to watch at the same time, until the last one has received the whole result. */
async function join(server: BenchServer, devices: number, length: number): Promise<Joined> {
  const call = JSON.stringify({ jsonrpc: '2.0', id: 1, method: 'watch', params: WATCH });
  return receive(server, '/v1/live', devices, length, (sockets) => {
    for (const socket of sockets) socket.send(call);
  });
}

/** How long a bare server needs to send as many bytes to as many devices, in milliseconds; the median of three times. */
async function sendBare(length: number): Promise<number> {
  const server = await BenchServer.start('bare');
  try {
    const times: number[] = [];
    for (let round = 0; round < 3; round++) {
      const { ms } = await receive(server, '/', DEVICES, length, () => {
        server.child.send({ broadcast: 'x'.repeat(length) });
      });
      times.push(ms);
    }
    return percentile(times, 0.5);
  } finally {
    await server.stop();
  }
}

/** Connects devices, and waits until the last one has received so many bytes after `begin`. Nothing is parsed. */
async function receive(
  server: BenchServer,
  path: string,
  devices: number,
  length: number,
  begin: (sockets: WebSocket[]) => void,
): Promise<Joined> {
  const listeners = await Promise.all(Array.from({ length: devices }, () => Listener.open(server.url, path)));
  const before = await server.usage();
  const started = performance.now();
  let waiting = devices;
  for (const { socket } of listeners) {
    const stream = (socket as unknown as { _socket: Socket })._socket;
    stream.removeAllListeners('data');
    let received = 0;
    stream.on('data', (chunk: Buffer) => {
      if (received < length && (received += chunk.length) >= length) waiting--;
    });
  }
  begin(listeners.map(({ socket }) => socket));
  await until(() => waiting === 0);
  const ms = performance.now() - started;
  const after = await server.usage();
  for (const { socket } of listeners) socket.terminate();
  await sleep(300);
  return { ms, cpuMs: after.cpuMs - before.cpuMs };
}
