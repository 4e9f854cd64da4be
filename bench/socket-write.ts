import { BenchServer, openMany, type Listener, type Row } from './harness.js';

const MEASURED_MS = 4000;

/** Commits over the WebSocket, as devices send them, compared with a bare server that parses, validates and answers. */
export async function benchSocketWrite(): Promise<Row[]> {
  const rows: Row[] = [];
  for (const connections of [1, 64, 1000]) {
    const found = { uproar: { rate: 0, cpuUs: Infinity }, 'checking-socket': { rate: 0, cpuUs: Infinity } };
    for (let round = 0; round < 2; round++) {
      for (const mode of ['uproar', 'checking-socket'] as const) {
        const { rate, cpuUs } = await measure(mode, connections);
        found[mode] = { rate: Math.max(found[mode].rate, rate), cpuUs: Math.min(found[mode].cpuUs, cpuUs) };
      }
    }
    const [ours, bare] = [found.uproar, found['checking-socket']];
    const ratio = ours.cpuUs / bare.cpuUs;
    rows.push({
      benchmark: 'socket-write',
      what: `server CPU for a commit over the WebSocket, ${connections} connections, compared with a bare server that parses, validates and answers (${Math.round(ours.rate)} compared with ${Math.round(bare.rate)} per second)`,
      ours: ours.cpuUs,
      bare: bare.cpuUs,
      unit: 'µs',
      ratio,
      aim: connections === 1 ? 'stated' : 'at most 2',
      reached: connections === 1 || ratio <= 2,
    });
  }
  return rows;
}

async function measure(mode: 'uproar' | 'checking-socket', connections: number) {
  const server = await BenchServer.start(mode);
  const listeners = await openMany(connections, server.url, '/v1/live');
  await drive(listeners, 1000);
  const before = await server.usage();
  const { commits, seconds } = await drive(listeners, MEASURED_MS);
  const { cpuMs } = await server.usage();
  for (const { socket } of listeners) socket.terminate();
  await server.stop();
  return { rate: commits / seconds, cpuUs: ((cpuMs - before.cpuMs) * 1000) / commits };
}

/** Each connection sends a commit, waits for its answer, and sends the next. */
async function drive(listeners: Listener[], forMs: number): Promise<{ commits: number; seconds: number }> {
  const started = performance.now();
  let commits = 0;
  await Promise.all(
    listeners.map(async (listener, device) => {
      while (performance.now() - started < forMs) {
        const data = { altitude: commits % 3000, fuel: commits % 100, crewId: `c-${device % 97}`, status: 'aloft' };
        const answer = await listener.call('commit', { writes: [{ put: `balloons/bl-${device}`, data }] });
        if (!answer.includes('"result"')) throw new Error(`A commit was refused: ${answer}`);
        commits++;
      }
    }),
  );
  return { commits, seconds: (performance.now() - started) / 1000 };
}
