import { fork, type ChildProcess } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { WebSocket } from 'ws';

export const KEY = 'bench-key-0123456789';
/** The secret of the tokens that the server takes. */
export const TOKEN_SECRET = 'the secret of the benchmarks, over 32 bytes';

/** One line of the report: a measurement, and a bare baseline from the same run. */
export interface Row {
  benchmark: string;
  what: string;
  ours: number;
  bare: number;
  unit: string;
  /** How the two are compared, and the target. */
  ratio: number;
  aim: string;
  reached: boolean;
}

/** What a server process has used so far. */
export interface Usage {
  cpuMs: number;
}

/** The memory of a server process after a garbage collection. */
export interface Memory {
  residentBytes: number;
  /** Without what is free in the heap of JavaScript. */
  usedBytes: number;
}

/** A server in a process of its own. */
export class BenchServer {
  private constructor(
    readonly child: ChildProcess,
    readonly url: string,
    readonly directory: string,
  ) {}

  static async start(mode: 'uproar' | 'bare' | 'checking' | 'checking-socket' | 'streaming'): Promise<BenchServer> {
    const directory = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
    const child = fork(new URL('./server.ts', import.meta.url), [mode, directory], {
      execArgv: ['--import', 'tsx', '--expose-gc'],
    });
    const url = await new Promise<string>((resolve) =>
      child.once('message', (message) => resolve((message as { url: string }).url)),
    );
    return new BenchServer(child, url, directory);
  }

  usage(): Promise<Usage> {
    return this.#ask('usage');
  }

  memory(): Promise<Memory> {
    return this.#ask('memory');
  }

  #ask<Answer>(ask: string): Promise<Answer> {
    const answer = new Promise<Answer>((resolve) => this.child.once('message', (found) => resolve(found as Answer)));
    this.child.send({ ask });
    return answer;
  }

  /** The most memory that it has used so far. */
  get peakBytes(): number {
    return peakOf(this.child.pid!);
  }

  async stop(): Promise<void> {
    const ended = new Promise((resolve) => this.child.once('exit', resolve));
    this.child.kill('SIGKILL');
    await ended;
    rmSync(this.directory, { recursive: true, force: true });
  }
}

/** The most resident memory that a process has used; 0 once it has ended. */
export function peakOf(pid: number): number {
  try {
    return Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1] ?? 0) * 1024;
  } catch {
    return 0;
  }
}

const AS_KEY: Record<string, string> = { authorization: `Bearer ${KEY}` };

/** A WebSocket that counts what it gets. */
export class Listener {
  messages = 0;
  bytes = 0;
  last: string | undefined;
  onMessage: (text: Buffer) => void = () => undefined;
  private constructor(readonly socket: WebSocket) {
    socket.on('message', (data: Buffer) => {
      this.messages++;
      this.bytes += data.length;
      this.onMessage(data);
    });
  }

  /** @param localAddress the address of this side, where it matters */
  static async open(url: string, path = '', headers = AS_KEY, localAddress?: string): Promise<Listener> {
    const socket = new WebSocket(url.replace('http', 'ws') + path, {
      headers,
      perMessageDeflate: false,
      ...(localAddress === undefined ? {} : { localAddress }),
    });
    const listener = new Listener(socket);
    await new Promise((resolve, reject) => {
      socket.once('open', resolve);
      socket.once('error', reject);
    });
    return listener;
  }

  /** Sends a call and waits for its answer. */
  async call(method: string, params: unknown): Promise<string> {
    const answer = new Promise<string>((resolve) => {
      this.onMessage = (data) => {
        // A heartbeat or a change can come before.
        if (data.includes('"method"')) return;
        this.onMessage = () => undefined;
        resolve(String(data));
      };
    });
    this.socket.send(JSON.stringify({ jsonrpc: '2.0', id: 1, method, params }));
    return answer;
  }
}

/** A service lets in so many connections from one address, and some more. */
const FROM_ONE_ADDRESS = 4500;

/** Opens many listeners, some at a time. */
export async function openMany(
  count: number,
  url: string,
  path: string,
  begin?: (listener: Listener) => Promise<unknown>,
  headers = AS_KEY,
): Promise<Listener[]> {
  const listeners: Listener[] = [];
  while (listeners.length < count) {
    const part = await Promise.all(
      Array.from({ length: Math.min(100, count - listeners.length) }, async () => {
        const from =
          count > FROM_ONE_ADDRESS ? `127.0.1.${1 + Math.floor(listeners.length / FROM_ONE_ADDRESS)}` : undefined;
        const listener = await Listener.open(url, path, headers, from);
        await begin?.(listener);
        return listener;
      }),
    );
    listeners.push(...part);
  }
  return listeners;
}

/** Writes one document after another until that is enough. Returns how long each took, in milliseconds. */
export async function writeUntil(listener: Listener, isEnough: (elapsedMs: number) => boolean): Promise<number[]> {
  const took: number[] = [];
  const begunMs = performance.now();
  for (let n = 0; !isEnough(performance.now() - begunMs); n++) {
    const startedMs = performance.now();
    await listener.call('commit', { writes: [{ put: `other/o-${n % 50}`, data: { n } }] });
    took.push(performance.now() - startedMs);
  }
  return took;
}

export const sleep = (milliseconds: number) => new Promise((resolve) => setTimeout(resolve, milliseconds));

/** Waits until something holds. */
export async function until(holds: () => boolean, timeoutMs = 60_000): Promise<void> {
  const end = performance.now() + timeoutMs;
  while (!holds()) {
    if (performance.now() > end) throw new Error('It did not come to that in time.');
    await sleep(2);
  }
}

export function percentile(values: number[], share: number): number {
  return [...values].sort((a, b) => a - b)[Math.min(values.length - 1, Math.floor(values.length * share))]!;
}

/** A message of a usual size for a bare server to send: as long as ours. */
export function messageOf(length: number): string {
  return 'x'.repeat(length);
}
