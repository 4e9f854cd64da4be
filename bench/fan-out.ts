import { connect } from '@uproar/client';
import { BenchServer, KEY, messageOf, openMany, until, type Row } from './harness.js';

const MESSAGES = 300;

/** CPU of the server for each message delivered, many watchers of one query, beside a bare server sending equal bytes. */
export async function benchFanOut(): Promise<Row[]> {
  const rows: Row[] = [];
  for (const watchers of [100, 2000]) {
    const ours = await oneRun(watchers, 'uproar');
    const bare = await oneRun(watchers, 'bare', ours.length);
    const ratio = ours.cpuUs / bare.cpuUs;
    rows.push({
      benchmark: 'fan-out',
      what: `${watchers} watchers of one query, ${ours.length} bytes`,
      ours: ours.cpuUs,
      bare: bare.cpuUs,
      unit: 'µs of CPU a message',
      ratio,
      aim: 'at most 1',
      reached: ratio <= 1,
    });
  }
  return rows;
}

async function oneRun(
  watchers: number,
  mode: 'uproar' | 'bare',
  length = 0,
): Promise<{ cpuUs: number; length: number }> {
  const server = await BenchServer.start(mode);
  const listeners = await openMany(watchers, server.url, mode === 'uproar' ? '/v1/live' : '/', (listener) =>
    mode === 'uproar'
      ? listener.call('watch', { query: { from: 'balloons', where: "status = 'aloft'", limit: 'none' } })
      : Promise.resolve(),
  );
  const store = mode === 'uproar' ? connect(server.url, { token: KEY }) : undefined;
  const balloons = store?.collection('balloons');
  await balloons?.put('bl-1', { status: 'aloft', altitude: 0, position: { type: 'Point', coordinates: [0.1, 0.2] } });
  const send = async (n: number) => {
    if (balloons)
      await balloons.merge('bl-1', { altitude: n, position: { type: 'Point', coordinates: [0.1, n / 1000] } });
    else server.child.send({ broadcast: messageOf(length) });
  };
  const reached = async (target: number) => until(() => listeners.every(({ messages }) => messages >= target));
  for (let n = 0; n < 50; n++) {
    const before = listeners[0]!.messages;
    await send(n);
    await reached(before + 1);
  }
  const bytesBefore = listeners[0]!.bytes;
  const before = await server.usage();
  for (let n = 0; n < MESSAGES; n++) {
    const target = listeners[0]!.messages + 1;
    await send(n + 1000);
    await reached(target);
  }
  const after = await server.usage();
  const messageLength = Math.round((listeners[0]!.bytes - bytesBefore) / MESSAGES);
  for (const { socket } of listeners) socket.terminate();
  store?.close();
  await server.stop();
  return { cpuUs: ((after.cpuMs - before.cpuMs) * 1000) / (MESSAGES * watchers), length: messageLength };
}
