import { fork } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { connect } from '@uproar/client';
import { ServedProcess } from '../served-process.js';
import { KEY, temporaryDirectory } from '../service.js';
import { Observer, type Waits } from './observer.js';

const ATTACKER = new URL('./attacker.ts', import.meta.url).pathname;

/** Everybody may read and write without a key. */
const POLICY = 'anonymous: true\ndefault:\n  read: true\n  create: true\n  update: true\n  delete: true\n';

/** What an attack came to. */
export interface AttackResult {
  attack: string;
  waits: Waits;
  faults: string[];
  /** Resident memory of the service: before the attack, the maximum during it, and some time after it; in MiB. */
  memory: { before: number; peak: number; after: number };
  /** Whether the service still ran and answered a long read at the end. */
  alive: boolean;
}

/** A service with data that is worth attacking, in a process of its own. */
export class AttackedService {
  private constructor(
    readonly process: ServedProcess,
    readonly remove: () => void,
  ) {}

  static async start(scale = 1, options: string[] = []): Promise<AttackedService> {
    const { path, remove } = temporaryDirectory();
    const process = await ServedProcess.start(path, 0, ['--scan-includes', '--log-level', 'error', ...options]);
    const service = new AttackedService(process, remove);
    await service.#fill(scale);
    return service;
  }

  async stop(): Promise<void> {
    await this.process.stop('SIGTERM');
    this.remove();
  }

  /** Runs an attack for this time while other clients are served, and checks its effects. */
  async attack(name: string, durationMs: number, settleMs: number): Promise<AttackResult> {
    const { url, child } = this.process;
    const memory = () => residentMiB(child.pid!);
    const before = memory();
    let peak = before;
    const timer = setInterval(() => (peak = Math.max(peak, memory())), 50);
    const observer = new Observer(url, KEY);
    observer.begin();
    const attacker = fork(ATTACKER, [name, url], {
      execArgv: ['--import', 'tsx'],
      stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
    });
    await sleep(durationMs);
    const gone = new Promise((resolve) => attacker.once('exit', resolve));
    attacker.kill('SIGKILL');
    await gone;
    await observer.end();
    await sleep(settleMs);
    clearInterval(timer);
    const alive = child.exitCode === null && child.signalCode === null && (await this.#answersLongReads());
    return {
      attack: name,
      waits: observer.waits,
      faults: observer.faults,
      memory: { before, peak, after: alive ? memory() : 0 },
      alive,
    };
  }

  async #answersLongReads(): Promise<boolean> {
    const headers = { authorization: `Bearer ${KEY}`, accept: 'application/x-ndjson' };
    const response = await fetch(`${this.process.url}/v1/data/pads?limit=none`, {
      headers,
      signal: AbortSignal.timeout(20_000),
    });
    return response.ok && (await response.text()).length > 0;
  }

  async #fill(scale: number): Promise<void> {
    const { url } = this.process;
    const store = connect(url, { token: KEY, outbox: false, callTimeoutMs: 120_000 });
    await store.request('PUT', '/v1/policy', { text: POLICY });
    const put = (collection: string, count: number, data: (n: number) => object, atOnce = 5000) => {
      const prefix = collection[0]!;
      return Array.from({ length: Math.ceil(count / atOnce) }, (_, part) => async () => {
        const writes = Array.from({ length: Math.min(atOnce, count - part * atOnce) }, (_, at) => {
          const n = part * atOnce + at;
          return { put: `${collection}/${prefix}-${n}`, data: data(n) as never };
        });
        await store.commit({ writes });
      });
    };
    const text = 'ab'.repeat(450_000);
    const comb = (upright: boolean) => ({
      type: 'LineString',
      coordinates: Array.from({ length: 8000 }, (_, at) => (upright ? [at / 8000, at % 2] : [at % 2, at / 8000])),
    });
    const steps = [
      ...put('spectators', Math.round(100_000 * scale), (n) => ({
        n,
        name: `Spectator ${n}`,
        gate: `g-${n % 5}`,
        note: 'came by balloon and left on foot, as most do',
      })),
      ...put('pads', 200, (n) => ({ name: `Pad ${n}` })),
      ...put('gates', 5, (n) => ({ n })),
      ...put('large', 2, () => ({ text }), 1),
      ...put('refs', 4000, () => ({ big: 'l-0' })),
      ...put('heavy', 3, (n) => ({ n, text: 'ab'.repeat(200_000), shape: comb(true), other: comb(false) }), 1),
    ];
    for (const step of steps) await step();
    await store.commit({ writes: [{ put: 'lists/numbers', data: { a: Array(500_000).fill(1) } }] });
    // Large commits for the journal.
    for (let n = 0; n < Math.round(40 * scale); n++) {
      await store.commit({
        writes: Array.from({ length: 12 }, (_, at) => ({ put: `films/f-${at}`, data: { n, text } })),
      });
    }
    await store.collection('files').put('film', { name: 'film.bin', type: 'application/octet-stream' });
    await fetch(`${url}/v1/files/film/content`, {
      method: 'PUT',
      headers: { authorization: `Bearer ${KEY}`, 'content-type': 'application/octet-stream' },
      body: Buffer.alloc(8_000_000, 1),
    });
    store.close();
  }
}

const sleep = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

/** Resident memory of a process, in MiB (Linux). */
function residentMiB(pid: number): number {
  try {
    return Number(/^VmRSS:\s+(\d+)/m.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1] ?? 0) / 1024;
  } catch {
    return 0;
  }
}
