import { execFileSync, spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { ServedProcess } from '../test/served-process.js';
import { KEY } from '../test/service.js';
import type { Row } from './harness.js';

const DOCUMENTS = 20_000;
const WRITTEN_AT_ONCE = 1000;
const PARALLEL = 8;

/** A delivery may cost this many times the CPU of a bare signed post. */
const AIM = 1.5;

const dataOf = (n: number) => ({ name: `Balloon ${n}`, status: 'aloft', altitude: n, position: [n / 1000, 47.5] });

/** A text as long as what a hook delivers. */
export function bodyOf(n: number): string {
  const after = { id: `d-${n}`, version: n, created: TIME, updated: TIME, data: dataOf(n) };
  return JSON.stringify({
    specversion: '1.0',
    id: `${n}-0123456789abcdef`,
    source: '/stores/0123456789abcdef',
    type: 'uproar.document.created',
    subject: `balloons/d-${n}`,
    time: TIME,
    datacontenttype: 'application/json',
    seq: n,
    identity: 'key:environment',
    data: { before: null, after },
  });
}
const TIME = '2026-06-12T04:30:00.000Z';

/** Deliveries of a hook that has much to catch up with, compared with a loop that posts as many signed texts. */
export async function benchHooks(): Promise<Row[]> {
  const workspace = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  let received = 0;
  const ids = new Set<string>();
  const server = createServer((request, response) => {
    request.resume().on('end', () => {
      received++;
      ids.add(String(request.headers['webhook-id']));
      response.writeHead(204).end();
    });
  }).listen(0, '127.0.0.1');
  await once(server, 'listening');
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/`;
  const bare = await postBare(url);
  const served = await ServedProcess.start(workspace, 0, ['--hook-networks', '127.0.0.1']);
  const call = async (path: string, body: unknown) => {
    const headers = { authorization: `Bearer ${KEY}`, 'content-type': 'application/json' };
    const response = await fetch(served.url + path, { method: 'POST', headers, body: JSON.stringify(body) });
    if (!response.ok) throw new Error(await response.text());
  };
  for (let from = 0; from < DOCUMENTS; from += WRITTEN_AT_ONCE) {
    const ids = Array.from({ length: WRITTEN_AT_ONCE }, (_, n) => from + n);
    await call('/v1/commits', { writes: ids.map((n) => ({ put: `balloons/d-${n}`, data: dataOf(n) })) });
  }
  await new Promise((resolve) => setTimeout(resolve, 1000));
  received = 0;
  ids.clear();
  const [startedMs, before] = [performance.now(), cpuMs(served.child.pid!)];
  await call('/v1/hooks', { name: 'all', collection: 'balloons', url, after: 0, parallel: PARALLEL });
  while (ids.size < DOCUMENTS) await new Promise((resolve) => setTimeout(resolve, 5));
  const ours = { seconds: (performance.now() - startedMs) / 1000, cpuMs: cpuMs(served.child.pid!) - before };
  if (received !== DOCUMENTS) throw new Error(`${received} deliveries for ${DOCUMENTS} changes.`);
  await served.stop('SIGTERM');
  server.close();
  rmSync(workspace, { recursive: true });
  const row = (what: string, one: number, other: number, unit: string, reached: boolean, aim: string): Row => ({
    benchmark: 'hooks',
    what,
    ours: one,
    bare: other,
    unit,
    ratio: one / other,
    aim,
    reached,
  });
  const each = (ms: number) => (ms * 1000) / DOCUMENTS;
  return [
    row(
      'deliveries of a hook, compared with a loop of signed posts',
      DOCUMENTS / ours.seconds,
      DOCUMENTS / bare.seconds,
      '/s',
      true,
      'stated',
    ),
    row(
      'the same: CPU of the sender',
      each(ours.cpuMs),
      each(bare.cpuMs),
      'µs',
      ours.cpuMs / bare.cpuMs <= AIM,
      `at most ${AIM}`,
    ),
  ];
}

async function postBare(url: string): Promise<{ seconds: number; cpuMs: number }> {
  const program = new URL('./post-loop.ts', import.meta.url).pathname;
  const args = ['--import', 'tsx', program, url, String(DOCUMENTS), String(PARALLEL)];
  const child = spawn(process.execPath, args, { stdio: ['ignore', 'pipe', 'inherit'] });
  let said = '';
  child.stdout.on('data', (text) => (said += String(text)));
  await once(child, 'close');
  return JSON.parse(said) as { seconds: number; cpuMs: number };
}

/** The CPU time of a process, in milliseconds. */
function cpuMs(pid: number): number {
  const fields = readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1]!.split(' ');
  return ((Number(fields[11]) + Number(fields[12])) * 1000) / TICKS;
}
const TICKS = Number(execFileSync('getconf', ['CLK_TCK'], { encoding: 'utf8' }));
