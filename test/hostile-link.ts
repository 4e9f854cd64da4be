import { createServer, Socket, type Server } from 'node:net';

/**
 * A TCP proxy that cuts connections (all at once, or after so many more bytes, also within a frame), holds back what
 * the service says, lets it through slowly, or lets nothing through at all.
 */
export class HostileLink {
  cutAfterBytes = Number.POSITIVE_INFINITY;
  /** While true nothing that the service says comes through. */
  swallow = false;
  /** Holds everything back for so long, in both directions. */
  delayMs = 0;
  /** So much of what the service says comes through in a second, on each connection. */
  bytesPerSecond = Number.POSITIVE_INFINITY;
  /** While true new connections are refused. */
  down = false;
  /** While true a request to change to a WebSocket is answered with an error, as some proxies do. */
  blockSockets = false;
  readonly #sockets = new Set<Socket>();
  private constructor(
    readonly server: Server,
    readonly url: string,
  ) {}

  static async start(target: string): Promise<HostileLink> {
    const { hostname, port } = new URL(target);
    const server = createServer();
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const { port: ownPort } = server.address() as { port: number };
    const proxy = new HostileLink(server, `http://127.0.0.1:${ownPort}`);
    server.on('connection', (client) => {
      if (proxy.down) {
        client.destroy();
        return;
      }
      const upstream = new Socket().connect(Number(port), hostname);
      for (const [socket, other] of [
        [client, upstream],
        [upstream, client],
      ] as const) {
        proxy.#sockets.add(socket);
        socket.on('error', () => other.destroy());
        socket.on('close', () => {
          proxy.#sockets.delete(socket);
          other.destroy();
        });
      }
      const [out, back] = [new Delay(), new Delay()];
      client.on('data', (chunk: Buffer) => {
        if (proxy.blockSockets && /^upgrade: websocket/im.test(chunk.toString('latin1'))) {
          client.end('HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\nConnection: close\r\n\r\n');
        } else out.after(proxy.delayMs, () => upstream.write(chunk));
      });
      upstream.on('data', (chunk: Buffer) => {
        if (proxy.bytesPerSecond < Number.POSITIVE_INFINITY) {
          upstream.pause();
          setTimeout(() => upstream.resume(), (1000 * chunk.length) / proxy.bytesPerSecond);
        }
        back.after(proxy.delayMs, () => proxy.#pass(chunk, client));
      });
    });
    return proxy;
  }

  cutAll(): void {
    for (const socket of this.#sockets) socket.destroy();
  }

  async stop(): Promise<void> {
    this.cutAll();
    await new Promise((resolve) => this.server.close(resolve));
  }

  #pass(chunk: Buffer, client: Socket): void {
    if (this.swallow) return;
    if (chunk.length <= this.cutAfterBytes) {
      this.cutAfterBytes -= chunk.length;
      client.write(chunk);
      return;
    }
    client.end(chunk.subarray(0, this.cutAfterBytes));
    this.cutAfterBytes = Number.POSITIVE_INFINITY;
    setTimeout(() => client.destroy(), 5);
  }
}

/** Does things later, but never in another order. */
class Delay {
  #waiting = 0;
  #tail: Promise<void> = Promise.resolve();

  after(delayMs: number, act: () => void): void {
    if (delayMs === 0 && this.#waiting === 0) {
      act();
      return;
    }
    this.#waiting++;
    const elapsed = new Promise((resolve) => setTimeout(resolve, delayMs));
    this.#tail = this.#tail
      .then(() => elapsed)
      .then(() => {
        this.#waiting--;
        act();
      });
  }
}
