import type { Socket } from 'node:net';
import { BenchServer, Listener, percentile, sleep, until, type Row } from './harness.js';

const DOCUMENTS = 100_000;
const DEVICES = 100;
const WATCH = { query: { from: 'flights', order: '-altitude', limit: 'none' } };

/** The first result of a view of 100,000 documents in order, for 100 devices that connect at once. */
export async function benchOrdered(): Promise<Row[]> {
  const server = await BenchServer.start('uproar');
  try {
    await fill(server.url);
    const first = await Listener.open(server.url, '/v1/live');
    const { length } = Buffer.from(await first.call('watch', WATCH));
    first.socket.terminate();
    await sleep(500);
    const ones: { ms: number; cpuMs: number }[] = [];
    for (let round = 0; round < 5; round++) ones.push(await join(server, 1, length));
    const one = percentile(
      ones.map(({ ms }) => ms),
      0.5,
    );
    const cpuMs = percentile(
      ones.map((round) => round.cpuMs),
      0.5,
    );
    const before = server.peakBytes;
    const all = await join(server, DEVICES, length);
    const peak = server.peakBytes;
    return [
      {
        benchmark: 'ordered',
        what: `first result of ${DOCUMENTS.toLocaleString('en')} documents in order (${(length / 1e6).toFixed(1)} MB), to the last of ${DEVICES} devices at once, compared with one`,
        ours: all.ms,
        bare: one,
        unit: 'ms',
        ratio: all.ms / one,
        aim: 'at most 1.5',
        reached: all.ms / one <= 1.5,
      },
      {
        benchmark: 'ordered',
        what: 'the same: CPU of the service',
        ours: all.cpuMs,
        bare: cpuMs,
        unit: 'ms',
        ratio: all.cpuMs / cpuMs,
        aim: 'at most 1.5',
        reached: all.cpuMs / cpuMs <= 1.5,
      },
      {
        benchmark: 'ordered',
        what: 'the same: most memory while it is sent, beyond the most that one needs, compared with the size of the result',
        ours: (peak - before) / 1e6,
        bare: length / 1e6,
        unit: 'MB',
        ratio: (peak - before) / length,
        aim: 'at most 5',
        reached: peak - before <= 5 * length,
      },
    ];
  } finally {
    await server.stop();
  }
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

/** Devices watch at the same time; how long until the last has the whole result, which nobody parses. */
async function join(server: BenchServer, devices: number, length: number): Promise<{ ms: number; cpuMs: number }> {
  const listeners = await Promise.all(Array.from({ length: devices }, () => Listener.open(server.url, '/v1/live')));
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
    socket.send(JSON.stringify({ jsonrpc: '2.0', id: 1, method: 'watch', params: WATCH }));
  }
  await until(() => waiting === 0);
  const ms = performance.now() - started;
  const after = await server.usage();
  for (const { socket } of listeners) socket.terminate();
  await sleep(300);
  return { ms, cpuMs: after.cpuMs - before.cpuMs };
}
