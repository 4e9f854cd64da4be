import { connect } from '@uproar/client';
import { BenchServer, KEY, messageOf, openMany, until, type Row } from './harness.js';

const MESSAGES = 300;

/**
 * CPU of the server for each message delivered, many watchers of one query, beside a bare server sending equal bytes. The bare
 * server writes nothing to a disk, so what a commit costs without any watcher is measured by itself and taken off.
 */
export async function benchFanOut(): Promise<Row[]> {
  const commitUs = (await oneRun(0, 'uproar')).totalCpuUs / MESSAGES;
  const rows: Row[] = [];
  for (const watchers of [100, 2000]) {
    const ours = await oneRun(watchers, 'uproar');
    const bare = await oneRun(watchers, 'bare', ours.length);
    const perMessage = ours.totalCpuUs / MESSAGES / watchers;
    const delivered = perMessage - commitUs / watchers;
    const barePerMessage = bare.totalCpuUs / MESSAGES / watchers;
    const ratio = delivered / barePerMessage;
    rows.push({
      benchmark: 'fan-out',
      what: `${watchers} watchers of one query, ${ours.length} bytes; with the commit itself (${Math.round(commitUs)} µs) ${perMessage.toFixed(2)} µs`,
      ours: delivered,
      bare: barePerMessage,
      unit: 'µs of CPU per message',
      ratio,
      aim: 'at most 1',
      reached: ratio <= 1,
    });
  }
  return rows;
}

/** Sends many changes to watchers, ours or those of a bare server. */
export async function oneRun(
  watchers: number,
  mode: 'uproar' | 'bare',
  length = 0,
): Promise<{ totalCpuUs: number; length: number }> {
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
    const before = listeners[0]?.messages ?? 0;
    await send(n);
    await reached(before + 1);
  }
  const bytesBefore = listeners[0]?.bytes ?? 0;
  const before = await server.usage();
  for (let n = 0; n < MESSAGES; n++) {
    const target = (listeners[0]?.messages ?? 0) + 1;
    await send(n + 1000);
    await reached(target);
  }
  const after = await server.usage();
  const messageLength = Math.round(((listeners[0]?.bytes ?? 0) - bytesBefore) / MESSAGES);
  for (const { socket } of listeners) socket.terminate();
  store?.close();
  await server.stop();
  return { totalCpuUs: (after.cpuMs - before.cpuMs) * 1000, length: messageLength };
}
