import type { Duplex } from 'node:stream';
import type { WebSocket } from 'ws';
import { frameText } from './frame.js';

/**
 * The frames that one connection is sent. When the other side reads too slowly, the service stops reading from it and
 * holds its answers until it has read.
 */
export class OutgoingFrames {
  readonly #socket: WebSocket;
  readonly #stream: Duplex;
  readonly #maxUnreadBytes: number;
  readonly #heldAnswers: string[] = [];
  #full = false;

  /**
   * @param stream the connection below the WebSocket
   * @param maxUnreadBytes the connection is full when more bytes wait to be read
   * @param onDrained called when a full connection has been read
   */
  constructor(socket: WebSocket, stream: Duplex, maxUnreadBytes: number, onDrained: () => void) {
    this.#socket = socket;
    this.#stream = stream;
    this.#maxUnreadBytes = maxUnreadBytes;
    stream.on('drain', () => {
      if (!this.#full) return;
      this.#full = false;
      onDrained();
    });
  }

  /** Whether nothing more should be sent until the other side has read. */
  get full(): boolean {
    return this.#full;
  }

  /**
   * Sends a complete frame. It bypasses the sender of `ws`, which would frame it again for every connection; nothing
   * else is written.
   */
  write(frame: Buffer): void {
    if (this.#socket.readyState !== this.#socket.OPEN) return;
    this.#stream.write(frame);
    if (!this.#full && this.#stream.writableLength > this.#maxUnreadBytes) {
      this.#full = true;
      this.#socket.pause();
    }
  }

  /** Sends a message, also over a full connection. */
  writeText(message: string): void {
    this.write(frameText(Buffer.from(message)));
  }

  /** Sends an answer; holds it if the connection is full. */
  answer(text: string): void {
    if (this.#full) this.#heldAnswers.push(text);
    else this.writeText(text);
  }

  /** Sends the held answers. */
  sendHeldAnswers(): void {
    for (const answer of this.#heldAnswers.splice(0)) this.writeText(answer);
  }
}
