/**
 * Posts signed texts, as the bare baseline for hooks: `post-loop.ts URL COUNT PARALLEL`. Prints the seconds and milliseconds of
 * CPU that it took.
 */
import { request, Agent } from 'node:http';
import { Webhook } from 'standardwebhooks';
import { bodyOf } from './hooks.js';

const [url, count, parallel] = [process.argv[2]!, Number(process.argv[3]), Number(process.argv[4])];
const agent = new Agent({ keepAlive: true });
const webhook = new Webhook(`whsec_${Buffer.alloc(32, 7).toString('base64')}`);

function post(n: number): Promise<void> {
  const body = bodyOf(n);
  const timeMs = Date.now();
  const headers = {
    'content-type': 'application/cloudevents+json; charset=utf-8',
    'content-length': Buffer.byteLength(body),
    'webhook-id': `${n}-x`,
    'webhook-timestamp': String(Math.floor(timeMs / 1000)),
    'webhook-signature': webhook.sign(`${n}-x`, new Date(timeMs), body),
  };
  return new Promise((resolve, reject) => {
    const sending = request(url, { method: 'POST', agent, headers }, (response) =>
      response.resume().on('end', resolve),
    );
    sending.on('error', reject);
    sending.end(body);
  });
}

const startedMs = performance.now();
const before = process.cpuUsage();
let next = 0;
await Promise.all(
  Array.from({ length: parallel }, async () => {
    while (next < count) await post(next++);
  }),
);
const { user, system } = process.cpuUsage(before);
console.log(JSON.stringify({ seconds: (performance.now() - startedMs) / 1000, cpuMs: (user + system) / 1000 }));
process.exit(0);
