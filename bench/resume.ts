import { connect } from '@uproar/client';
import { BenchServer, KEY, Listener, openMany, type Row } from './harness.js';

const CLIENTS = 1000;
const DOCUMENTS = 10_000;
const CHANGED = 100;

/** What it costs to bring a thousand clients back after 1% of a large result has changed, beside sending all of it. */
export async function benchResume(): Promise<Row[]> {
  const server = await BenchServer.start('uproar');
  const store = connect(server.url, { token: KEY });
  const data = (n: number) => ({
    name: `balloon ${n}`,
    status: 'aloft',
    altitude: n,
    position: { type: 'Point', coordinates: [n / 1e5, 0.2] },
  });
  for (let part = 0; part < DOCUMENTS; part += 500) {
    await store.commit({
      writes: Array.from({ length: 500 }, (_, n) => ({ put: `balloons/bl-${part + n}`, data: data(part + n) })),
    });
  }
  const query = { from: 'balloons', limit: 'none' };
  const first = await Listener.open(server.url, '/v1/live');
  const { resume } = (JSON.parse(await first.call('watch', { query })) as { result: { resume: string } }).result;
  for (let n = 0; n < CHANGED; n++) await store.collection('balloons').merge(`bl-${n * 97}`, { altitude: -n - 1 });

  const bringBack = async (params: unknown, clients: number) => {
    const listeners = await openMany(clients, server.url, '/v1/live');
    const before = await server.usage();
    for (let at = 0; at < listeners.length; at += 50)
      await Promise.all(listeners.slice(at, at + 50).map((listener) => listener.call('watch', params)));
    const after = await server.usage();
    const bytes = listeners.reduce((sum, listener) => sum + listener.bytes, 0) / clients;
    for (const { socket } of listeners) socket.terminate();
    return { bytes, cpuMs: (after.cpuMs - before.cpuMs) / clients };
  };
  const resumed = await bringBack({ query, resume }, CLIENTS);
  const full = await bringBack({ query }, 200);
  store.close();
  await server.stop();
  const row = (what: string, ours: number, bare: number, unit: string, aim: string, limit: number): Row => ({
    benchmark: 'resume',
    what,
    ours,
    bare,
    unit,
    ratio: ours / bare,
    aim,
    reached: ours / bare <= limit,
  });
  return [
    row(
      `${CLIENTS} clients back after 1% of ${DOCUMENTS} documents changed: bytes`,
      resumed.bytes,
      full.bytes,
      'bytes per client',
      'below 0.05',
      0.05,
    ),
    row('the same: server CPU', resumed.cpuMs, full.cpuMs, 'ms of CPU per client', 'below 1', 1),
  ];
}
