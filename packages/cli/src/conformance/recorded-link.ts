import { createServer, Socket, type Server } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { Recording } from './recording.js';

/** So many connections are kept for the report. */
const KEPT_RECORDINGS = 6;

/**
 * A link between a program and a store that records what passes, and can fail: it cuts connections, falls silent,
 * holds bytes back or passes them in small pieces, and answers in place of the store.
 */
export class RecordedLink {
  /** While true, new connections are refused. */
  down = false;
  /** Cuts a connection after so many more bytes from the store, also within an event. */
  cutAfterBytes = Infinity;
  /** The largest piece that is passed on at once from the store, in bytes. */
  pieceBytes = Infinity;
  /** While true, nothing is read from the store, as if the program read nothing. */
  held = false;
  /** While true, what the store answers to a write is lost, and the connection with it. */
  loseAnswers = false;
  /** An HTTP response that new connections get in place of the store's, with the number of times it is sent. */
  standIn: { response: string; times: number } | undefined;
  readonly #sockets = new Map<Socket, { silent: boolean }>();
  readonly #recordings: Recording[] = [];
  #opened = 0;

  private constructor(
    readonly server: Server,
    readonly url: string,
    private readonly targetPort: number,
  ) {
    server.on('connection', (client) => this.#connect(client));
  }

  /** Starts a link to a port of this machine. */
  static async start(targetPort: number): Promise<RecordedLink> {
    const server = createServer();
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const { port } = server.address() as { port: number };
    return new RecordedLink(server, `http://127.0.0.1:${port}`, targetPort);
  }

  /** How many connections were opened so far. */
  get opened(): number {
    return this.#opened;
  }

  /** The latest connections, the oldest first. */
  get recordings(): readonly Recording[] {
    return this.#recordings;
  }

  /** Ends all connections. */
  cut(): void {
    for (const socket of this.#sockets.keys()) socket.destroy();
  }

  /** Nothing passes on the present connections any more, but they stay open. */
  silence(): void {
    for (const state of this.#sockets.values()) state.silent = true;
  }

  async stop(): Promise<void> {
    this.cut();
    await new Promise((resolve) => this.server.close(resolve));
  }

  #connect(client: Socket): void {
    this.#opened++;
    if (this.down) {
      client.destroy();
      return;
    }
    const recording = new Recording(this.#opened);
    this.#recordings.push(recording);
    if (this.#recordings.length > KEPT_RECORDINGS) this.#recordings.shift();
    if (this.standIn && this.standIn.times > 0) {
      this.standIn.times--;
      this.#answer(client, recording, this.standIn.response);
      return;
    }
    const upstream = new Socket().connect(this.targetPort, '127.0.0.1');
    const state = { silent: false };
    for (const [socket, other] of [
      [client, upstream],
      [upstream, client],
    ] as const) {
      this.#sockets.set(socket, state);
      socket.on('error', () => other.destroy());
      socket.on('close', () => {
        this.#sockets.delete(socket);
        recording.end();
        other.destroy();
      });
    }
    let writing = false;
    client.on('data', (chunk: Buffer) => {
      if (state.silent) return;
      recording.sent(chunk);
      writing = /^(?:POST|PUT|PATCH|DELETE) /.test(chunk.toString('latin1', 0, 8));
      upstream.write(chunk);
    });
    const pass = this.#passTo(client, recording, state);
    upstream.on('data', (chunk: Buffer) => {
      if (writing && this.loseAnswers) client.destroy();
      else if (!state.silent) pass(chunk, upstream);
    });
  }

  #answer(client: Socket, recording: Recording, response: string): void {
    client.on('error', () => undefined);
    client.once('data', (chunk: Buffer) => {
      recording.sent(chunk);
      recording.received(Buffer.from(response));
      recording.end();
      client.end(response);
    });
  }

  /** Passes bytes of the store on: at once, or in pieces that wait for each other. */
  #passTo(client: Socket, recording: Recording, state: { silent: boolean }) {
    const waiting: Buffer[] = [];
    let passing = false;
    const passAll = async (upstream: Socket) => {
      passing = true;
      for (let chunk = waiting.shift(); chunk && !client.destroyed; chunk = waiting.shift()) {
        // The store notices that nothing is read only when the buffers of the connection are full.
        upstream.pause();
        while (this.held) await sleep(20);
        const length = Math.min(chunk.length, this.pieceBytes);
        if (length < chunk.length) waiting.unshift(chunk.subarray(length));
        this.#send(chunk.subarray(0, length), client, recording, state);
        await new Promise((resolve) => setImmediate(resolve));
      }
      upstream.resume();
      passing = false;
    };
    return (chunk: Buffer, upstream: Socket) => {
      if (!passing && this.pieceBytes === Infinity && !this.held) {
        this.#send(chunk, client, recording, state);
        return;
      }
      waiting.push(chunk);
      if (!passing) void passAll(upstream);
    };
  }

  #send(chunk: Buffer, client: Socket, recording: Recording, { silent }: { silent: boolean }): void {
    if (silent) return;
    const part = chunk.subarray(0, Math.min(chunk.length, this.cutAfterBytes));
    recording.received(part);
    this.cutAfterBytes -= part.length;
    if (this.cutAfterBytes > 0) client.write(part);
    else {
      this.cutAfterBytes = Infinity;
      client.end(part);
    }
  }
}
