import { BenchServer, Listener, messageOf, openMany, percentile, sleep, type Row } from './harness.js';

const WATCHERS = 1000;
const COMMITS = 600;
const A_SECOND = 100;

/** From a commit to the last of a thousand watchers, beside a bare relay. */
export async function benchLatency(): Promise<Row[]> {
  const ours = await oneRun('uproar', 0);
  const bare = await oneRun('bare', ours.length);
  return [0.5, 0.99].map((share) => {
    const [a, b] = [percentile(ours.times, share), percentile(bare.times, share)];
    return {
      benchmark: 'latency',
      what: `commit to the last of ${WATCHERS} watchers at ${A_SECOND} per second, p${share * 100}; server CPU ${ours.cpuMs.toFixed(1)} and ${bare.cpuMs.toFixed(1)} ms a commit`,
      ours: a,
      bare: b,
      unit: 'ms',
      ratio: a / b,
      aim: 'at most 2',
      reached: a / b <= 2,
    };
  });
}

async function oneRun(
  mode: 'uproar' | 'bare',
  length: number,
): Promise<{ times: number[]; length: number; cpuMs: number }> {
  const server = await BenchServer.start(mode);
  const path = mode === 'uproar' ? '/v1/live' : '/';
  const listeners = await openMany(WATCHERS, server.url, path, (listener) =>
    mode === 'uproar' ? listener.call('watch', { query: { from: 'balloons', limit: 'none' } }) : Promise.resolve(),
  );
  const writer = await Listener.open(server.url, path);
  const sent = new Map<number, { at: number; left: number }>();
  const times: number[] = [];
  for (const listener of listeners) {
    // One event may contain several commits: all numbers between the last one and this one have arrived.
    let next = 0;
    listener.onMessage = (data) => {
      const number = mode === 'uproar' ? numberIn(data) : next;
      for (; next <= number; next++) {
        const entry = sent.get(next);
        if (entry && --entry.left === 0) times.push(performance.now() - entry.at);
      }
    };
  }
  const bytesBefore = listeners[0]!.bytes;
  const before = await server.usage();
  for (let n = 0; n < COMMITS; n++) {
    sent.set(n, { at: performance.now(), left: WATCHERS });
    const commit = {
      jsonrpc: '2.0',
      id: n,
      method: 'commit',
      params: { writes: [{ put: 'balloons/bl-1', data: { altitude: n, status: 'aloft' } }] },
    };
    writer.socket.send(mode === 'uproar' ? JSON.stringify(commit) : messageOf(length));
    await sleep(1000 / A_SECOND);
  }
  await sleep(1500);
  const after = await server.usage();
  const messageLength = Math.round((listeners[0]!.bytes - bytesBefore) / listeners[0]!.messages);
  for (const { socket } of [...listeners, writer]) socket.terminate();
  await server.stop();
  return { times, length: messageLength, cpuMs: (after.cpuMs - before.cpuMs) / COMMITS };
}

/** The altitude in a change, which counts the commits. */
function numberIn(data: Buffer): number {
  const at = data.indexOf('altitude"');
  return at === -1 ? -1 : Number.parseInt(/\d+/.exec(data.toString('latin1', at + 9, at + 40))![0], 10);
}
