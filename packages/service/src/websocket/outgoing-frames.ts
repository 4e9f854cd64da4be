import type { Duplex } from 'node:stream';
import type { WebSocket } from 'ws';
import { PacedWriter } from '../requests/paced-writer.js';

/** A message that is larger is announced, in bytes. */
const ANNOUNCED_BYTES = 256 * 1024;

/**
 * The frames that one connection is sent. When the other side reads too slowly, the service stops reading from it and
 * holds its answers until it has read.
 */
export class OutgoingFrames {
  readonly #socket: WebSocket;
  readonly #stream: Duplex;
  readonly #writer: PacedWriter;
  readonly #maxUnreadBytes: number;
  readonly #announce: (bytes: number) => Buffer;
  readonly #heldAnswers: (readonly Buffer[])[] = [];
  #full = false;

  /**
   * @param stream the connection below the WebSocket
   * @param maxUnreadBytes the connection is full when more bytes wait to be read
   * @param announce makes the message that goes before a large one, so that the other side is patient
   * @param onDrained called when a full connection has been read
   */
  constructor(
    socket: WebSocket,
    stream: Duplex,
    maxUnreadBytes: number,
    announce: (bytes: number) => Buffer,
    onDrained: () => void,
  ) {
    this.#socket = socket;
    this.#stream = stream;
    this.#maxUnreadBytes = maxUnreadBytes;
    this.#announce = announce;
    this.#writer = new PacedWriter(stream, () => {
      if (!this.#full) return;
      this.#full = false;
      onDrained();
    });
  }

  /** Whether nothing more should be sent until the other side has read. */
  get full(): boolean {
    return this.#full;
  }

  /** What waits to be handed over to the connection, in bytes. */
  get heldBytes(): number {
    return this.#writer.heldBytes;
  }

  /**
   * Sends whole frames. It bypasses the sender of `ws`, which would frame it again for every connection.
   * What `ws` itself sends are control frames, which may stand between fragments.
   */
  write(frames: Buffer): void {
    if (this.#socket.readyState !== this.#socket.OPEN) return;
    this.#writer.write(frames);
    if (!this.#full && (this.#writer.busy || this.#stream.writableLength > this.#maxUnreadBytes)) {
      this.#full = true;
      this.#socket.pause();
    }
  }

  /** Sends a message in parts of whole frames, also over a full connection. */
  send(parts: readonly Buffer[]): void {
    const bytes = parts.reduce((sum, { length }) => sum + length, 0);
    if (bytes > ANNOUNCED_BYTES) this.write(this.#announce(bytes));
    for (const part of parts) this.write(part);
  }

  /** Like {@link send}, but waits while the connection is full. */
  answer(parts: readonly Buffer[]): void {
    if (this.#full) this.#heldAnswers.push(parts);
    else this.send(parts);
  }

  /** Sends the held answers. */
  sendHeldAnswers(): void {
    for (const parts of this.#heldAnswers.splice(0)) this.answer(parts);
  }
}
