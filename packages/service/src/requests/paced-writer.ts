import { Readable, type Writable } from 'node:stream';

/** Larger messages are written in pieces of this size, in bytes. */
export const PIECE_BYTES = 64 * 1024;

/** The maximum size of the pieces that are handed to the stream before it has sent earlier ones, in bytes. */
const AHEAD_BYTES = 4 * PIECE_BYTES;

/** The number of writers in which a buffer waits. */
const holders = new WeakMap<Buffer, number>();

/**
 * Writes large messages to a stream piece by piece, as the other side reads. Each piece shows that the other side is
 * still reading. Many connections can be sent the same bytes without a copy for each.
 */
export class PacedWriter {
  readonly #stream: Writable;
  readonly #waiting: Buffer[] = [];
  /** How much of the first of them has been handed over. */
  #handedOver = 0;

  /** @param onDrained called when everything has been read */
  constructor(stream: Writable, onDrained: () => void) {
    this.#stream = stream;
    stream.on('drain', () => {
      this.#handOver();
      if (!this.busy) onDrained();
    });
    stream.once('close', () => {
      while (this.#waiting.length > 0) this.#dropFirst();
    });
  }

  /** Whether something waits to be handed over. */
  get busy(): boolean {
    return this.#waiting.length > 0;
  }

  /** The size of the waiting messages, in bytes. A message that waits in several writers counts in equal shares. */
  get heldBytes(): number {
    return this.#waiting.reduce((sum, bytes) => sum + bytes.length / holders.get(bytes)!, 0);
  }

  /** Writes after all that was written before. The bytes must not be changed any more. */
  write(bytes: Buffer): void {
    if (!this.busy && bytes.length <= PIECE_BYTES) {
      this.#stream.write(bytes);
      return;
    }
    if (this.#stream.destroyed) return;
    this.#waiting.push(bytes);
    holders.set(bytes, (holders.get(bytes) ?? 0) + 1);
    if (this.#waiting.length === 1) this.#handOver();
  }

  #handOver(): void {
    while (this.busy && this.#stream.writableLength < AHEAD_BYTES) {
      const bytes = this.#waiting[0]!;
      this.#stream.write(bytes.subarray(this.#handedOver, this.#handedOver + PIECE_BYTES));
      this.#handedOver += PIECE_BYTES;
      if (this.#handedOver >= bytes.length) this.#dropFirst();
    }
  }

  #dropFirst(): void {
    const bytes = this.#waiting.shift()!;
    holders.set(bytes, holders.get(bytes)! - 1);
    this.#handedOver = 0;
  }
}

/** The bytes of a body that is so large that it should be handed over in pieces. */
export function bytesOfLarge(body: unknown): Buffer | undefined {
  if (typeof body === 'string') return body.length > AHEAD_BYTES ? Buffer.from(body) : undefined;
  return Buffer.isBuffer(body) && body.length > AHEAD_BYTES ? body : undefined;
}

/** A stream of bytes in pieces. */
export function inPieces(bytes: Buffer): Readable {
  function* pieces() {
    for (let at = 0; at < bytes.length; at += PIECE_BYTES) yield bytes.subarray(at, at + PIECE_BYTES);
  }
  return Readable.from(pieces(), { objectMode: false, highWaterMark: AHEAD_BYTES });
}
