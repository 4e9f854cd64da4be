import { PIECE_BYTES } from '../requests/paced-writer.js';

/** The first byte of a frame (RFC 6455, section 5.2): the kind of its message, or that it goes on with one, and whether it ends it. */
const TEXT = 0x01;
const CONTINUATION = 0x00;
const END = 0x80;

/** The length that says that it follows in two bytes. */
const IN_TWO_BYTES = 126;
const LONG_HEADER = 4;

/** With its header, a fragment is as long as a piece, so that others can be written between the fragments. */
const MAX_PAYLOAD = PIECE_BYTES - LONG_HEADER;

/**
 * A text message in WebSocket frames of a server: one, or as many fragments as it takes (RFC 6455, section 5.4), of which
 * each but the last is {@link PIECE_BYTES} long. Made once, they can go to any number of connections.
 */
export function frameText(text: string): Buffer {
  const length = Buffer.byteLength(text);
  if (length > MAX_PAYLOAD) return frame(Buffer.from(text), TEXT, END);
  const frames = Buffer.allocUnsafe(headerLength(length) + length);
  frames.write(text, writeHeader(frames, 0, TEXT | END, length));
  return frames;
}

/** Fragments from the middle of a text message. */
export function frameMiddle(text: string): Buffer {
  return frame(Buffer.from(text), CONTINUATION, 0);
}

/** A text message whose middle is shared with other messages. */
export function frameAround(before: string, middle: Buffer, after: string): Buffer[] {
  return [frame(Buffer.from(before), TEXT, 0), middle, frame(Buffer.from(after), CONTINUATION, END)];
}

/**
 * @param first the kind of the first frame
 * @param end added to the last one
 */
function frame(payload: Buffer, first: number, end: number): Buffer {
  const full = Math.max(0, Math.ceil(payload.length / MAX_PAYLOAD) - 1);
  const lastLength = payload.length - full * MAX_PAYLOAD;
  const frames = Buffer.allocUnsafe(full * PIECE_BYTES + headerLength(lastLength) + lastLength);
  for (let n = 0; n <= full; n++) {
    const kind = (n === 0 ? first : CONTINUATION) | (n === full ? end : 0);
    const start = writeHeader(frames, n * PIECE_BYTES, kind, n === full ? lastLength : MAX_PAYLOAD);
    payload.copy(frames, start, n * MAX_PAYLOAD, (n + 1) * MAX_PAYLOAD);
  }
  return frames;
}

function headerLength(length: number): number {
  return length < IN_TWO_BYTES ? 2 : LONG_HEADER;
}

/** Returns where the payload begins. */
function writeHeader(frames: Buffer, at: number, kind: number, length: number): number {
  frames[at] = kind;
  if (length < IN_TWO_BYTES) frames[at + 1] = length;
  else {
    frames[at + 1] = IN_TWO_BYTES;
    frames.writeUInt16BE(length, at + 2);
  }
  return at + headerLength(length);
}
