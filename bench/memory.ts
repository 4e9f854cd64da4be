import { BenchServer, openMany, sleep, type Row } from './harness.js';

/** As many as a service lets in from one address, with the first ones. */
const CONNECTIONS = 4900;

/** Resident memory for each idle connection that watches, beside bare connections. */
export async function benchMemory(): Promise<Row[]> {
  const measure = async (mode: 'uproar' | 'bare') => {
    const server = await BenchServer.start(mode);
    const first = await openMany(50, server.url, mode === 'uproar' ? '/v1/live' : '/');
    await sleep(300);
    const before = await server.usage();
    const listeners = await openMany(CONNECTIONS, server.url, mode === 'uproar' ? '/v1/live' : '/', (listener) =>
      mode === 'uproar'
        ? listener.call('watch', { query: { from: 'balloons', where: "status = 'aloft'" } })
        : Promise.resolve(),
    );
    await sleep(1000);
    const after = await server.usage();
    for (const { socket } of [...first, ...listeners]) socket.terminate();
    await server.stop();
    return (after.rssBytes - before.rssBytes) / CONNECTIONS / 1024;
  };
  const [ours, bare] = [await measure('uproar'), await measure('bare')];
  return [
    {
      benchmark: 'memory',
      what: `${CONNECTIONS} idle connections that watch`,
      ours,
      bare,
      unit: 'KiB per connection',
      ratio: ours / bare,
      aim: 'at most 1.5',
      reached: ours / bare <= 1.5,
    },
  ];
}
