import { randomBytes } from 'node:crypto';
import { BenchServer, KEY, type Row } from './harness.js';

const SIZE = 64 * 1024 * 1024;
const ROUNDS = 5;

/** How fast a large file goes in and out, compared with a bare stream to a file and back. */
export async function benchFiles(): Promise<Row[]> {
  const measure = async (mode: 'uproar' | 'streaming') => {
    const server = await BenchServer.start(mode);
    const headers = { authorization: `Bearer ${KEY}`, 'content-type': 'application/octet-stream' };
    const [up, down]: [number[], number[]] = [[], []];
    try {
      for (let round = 0; round < ROUNDS; round++) {
        // New content each time, because the store keeps equal content once.
        const body = randomBytes(SIZE);
        const url = `${server.url}/v1/files/large/content`;
        let started = performance.now();
        const sent = await fetch(url, { method: 'PUT', headers, body });
        await sent.arrayBuffer();
        if (!sent.ok) throw new Error(`The upload was refused with ${sent.status}.`);
        up.push(performance.now() - started);
        started = performance.now();
        const got = await (await fetch(url, { headers })).arrayBuffer();
        if (got.byteLength !== SIZE) throw new Error('Something else came back.');
        down.push(performance.now() - started);
      }
    } finally {
      await server.stop();
    }
    return [up, down].map((times) => SIZE / 1e6 / (Math.min(...times) / 1000)) as [number, number];
  };
  const [ours, bare] = [await measure('uproar'), await measure('streaming')];
  return ['upload, hashed and synced', 'download'].map((what, index) => ({
    benchmark: 'files',
    what: `${what}: ${SIZE / 1024 / 1024} MiB, compared with a bare stream`,
    ours: ours[index]!,
    bare: bare[index]!,
    unit: 'MB/s',
    ratio: ours[index]! / bare[index]!,
    aim: 'at least 0.5',
    reached: ours[index]! / bare[index]! >= 0.5,
  }));
}
