import { BenchServer, percentile, type Row } from './harness.js';
import { drive, HttpLane } from './http-lane.js';

const CONNECTIONS = 64;
const MEASURED_MS = 4000;

/** Single-document PUTs beside the same app with a route that only validates and answers. */
export async function benchWrite(): Promise<Row[]> {
  const rates = { uproar: [] as number[], checking: [] as number[] };
  const cpuUs = { uproar: [] as number[], checking: [] as number[] };
  const tails: number[] = [];
  for (let round = 0; round < 3; round++) {
    for (const mode of ['uproar', 'checking'] as const) {
      const server = await BenchServer.start(mode);
      const lanes = await Promise.all(Array.from({ length: CONNECTIONS }, () => HttpLane.open(server.url)));
      const put = (lane: HttpLane, n: number) =>
        lane.send(
          'PUT',
          `/v1/data/balloons/bl-${n % 5000}`,
          JSON.stringify({
            name: `balloon ${n}`,
            status: 'aloft',
            altitude: n % 3000,
            fuel: n % 100,
            crewId: `c-${n % 97}`,
          }),
        );
      await drive(lanes, 1500, put);
      const before = await server.usage();
      const { latencies, seconds, statuses } = await drive(lanes, MEASURED_MS, put);
      if ([...statuses.keys()].some((status) => status >= 300)) throw new Error('A write was refused.');
      rates[mode].push(latencies.length / seconds);
      cpuUs[mode].push((((await server.usage()).cpuMs - before.cpuMs) * 1000) / latencies.length);
      if (mode === 'uproar') tails.push(percentile(latencies, 0.99));
      for (const lane of lanes) lane.close();
      await server.stop();
    }
  }
  const [ours, bare] = [Math.max(...rates.uproar), Math.max(...rates.checking)];
  return [
    {
      benchmark: 'write',
      what: `PUTs of one document over ${CONNECTIONS} connections with full sync, compared with a route that only checks and answers (p99 ${Math.min(...tails).toFixed(1)} ms)`,
      ours,
      bare,
      unit: 'requests per second',
      ratio: ours / bare,
      aim: 'at least 0.6',
      reached: ours / bare >= 0.6,
    },
    {
      benchmark: 'write',
      what: 'server CPU for each of these PUTs',
      ours: Math.min(...cpuUs.uproar),
      bare: Math.min(...cpuUs.checking),
      unit: 'µs',
      ratio: Math.min(...cpuUs.uproar) / Math.min(...cpuUs.checking),
      aim: 'at most 1.7',
      reached: Math.min(...cpuUs.uproar) / Math.min(...cpuUs.checking) <= 1.7,
    },
  ];
}
