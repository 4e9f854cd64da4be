import { connect, type Socket } from 'node:net';
import { KEY } from './harness.js';

/** One kept-open HTTP connection that sends a request at a time, as cheaply as that can be done. */
export class HttpLane {
  #received: Buffer = Buffer.alloc(0);
  #done: ((status: number) => void) | undefined;
  /** The body of the last answer. */
  body: Buffer = Buffer.alloc(0);
  #failed: ((error: Error) => void) | undefined;
  private constructor(
    readonly socket: Socket,
    readonly host: string,
  ) {
    socket.setNoDelay(true);
    socket.on('data', (piece: Buffer) => this.#take(piece));
    const fail = () => this.#failed?.(new Error('The connection broke.'));
    socket.on('error', fail);
    socket.on('close', fail);
  }

  /** @param localAddress the address of this side, where it matters */
  static async open(url: string, localAddress?: string): Promise<HttpLane> {
    const { hostname, port, host } = new URL(url);
    const socket = connect({ port: Number(port), host: hostname, ...(localAddress ? { localAddress } : {}) });
    await new Promise((resolve, reject) => socket.once('connect', resolve).once('error', reject));
    return new HttpLane(socket, host);
  }

  /** Sends a request and waits for the whole answer. Returns its status. */
  send(method: string, path: string, body: string, type = 'application/json'): Promise<number> {
    const head = [
      `${method} ${path} HTTP/1.1`,
      `Host: ${this.host}`,
      `Authorization: Bearer ${KEY}`,
      `Content-Type: ${type}`,
      `Content-Length: ${Buffer.byteLength(body)}`,
    ];
    this.socket.write(`${head.join('\r\n')}\r\n\r\n${body}`);
    return new Promise((resolve, reject) => {
      this.#done = resolve;
      this.#failed = reject;
    });
  }

  close(): void {
    this.#failed = undefined;
    this.socket.destroy();
  }

  #take(piece: Buffer): void {
    this.#received = this.#received.length === 0 ? piece : Buffer.concat([this.#received, piece]);
    const head = this.#received.indexOf('\r\n\r\n');
    if (head === -1) return;
    const text = this.#received.toString('latin1', 0, head);
    const length = Number(/^content-length: (\d+)/im.exec(text)?.[1] ?? 0);
    if (this.#received.length < head + 4 + length) return;
    this.body = this.#received.subarray(head + 4, head + 4 + length);
    this.#received = this.#received.subarray(head + 4 + length);
    this.#done?.(Number(text.slice(9, 12)));
  }
}

/** Keeps every lane busy for a time. Returns the latencies in milliseconds and how long it took. */
export async function drive(
  lanes: HttpLane[],
  forMs: number,
  act: (lane: HttpLane, n: number) => Promise<number>,
): Promise<{ latencies: number[]; seconds: number; statuses: Map<number, number> }> {
  const latencies: number[] = [];
  const statuses = new Map<number, number>();
  const start = performance.now();
  let n = 0;
  await Promise.all(
    lanes.map(async (lane) => {
      while (performance.now() - start < forMs) {
        const begun = performance.now();
        const status = await act(lane, n++);
        latencies.push(performance.now() - begun);
        statuses.set(status, (statuses.get(status) ?? 0) + 1);
      }
    }),
  );
  return { latencies, seconds: (performance.now() - start) / 1000, statuses };
}
