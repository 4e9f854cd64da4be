import type { WebSocket } from 'ws';

/** How long the calls of one connection are handled before other connections get their turn, in milliseconds. */
const SLICE_MS = 8;

/**
 * The messages of one connection, handled in order. While the connection must wait, or has used its share of a turn of
 * the event loop, its messages are held and its socket is paused.
 */
export class IncomingMessages {
  readonly #socket: WebSocket;
  readonly #handle: (message: Buffer) => void;
  readonly #mustWait: () => boolean;
  readonly #held: Buffer[] = [];
  /** The end of the share of this turn; undefined before the first message of a turn. */
  #sliceEndMs: number | undefined;

  /**
   * @param handle handles one message
   * @param mustWait whether messages must wait, for the other side to read or for earlier calls
   */
  constructor(socket: WebSocket, handle: (message: Buffer) => void, mustWait: () => boolean) {
    this.#socket = socket;
    this.#handle = handle;
    this.#mustWait = mustWait;
  }

  /** Handles a message now, or after the messages that are held. */
  receive(message: Buffer): void {
    if (!this.#isBlocked && this.#held.length === 0) return this.#handleInSlice(message);
    this.#held.push(message);
    this.#socket.pause();
  }

  /** Handles held messages as far as possible. Call it whenever the reason to wait may be over. */
  resume(): void {
    while (!this.#isBlocked && this.#held.length > 0) this.#handleInSlice(this.#held.shift()!);
    if (!this.#isBlocked) this.#socket.resume();
  }

  get #isBlocked(): boolean {
    return this.#mustWait() || (this.#sliceEndMs !== undefined && performance.now() > this.#sliceEndMs);
  }

  #handleInSlice(message: Buffer): void {
    if (this.#sliceEndMs === undefined) {
      this.#sliceEndMs = performance.now() + SLICE_MS;
      setImmediate(() => {
        this.#sliceEndMs = undefined;
        // The socket may be paused even if no message is held.
        this.resume();
      });
    }
    this.#handle(message);
  }
}
