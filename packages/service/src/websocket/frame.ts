import * as ws from 'ws';

interface FrameOptions {
  fin: boolean;
  rsv1: boolean;
  opcode: number;
  mask: boolean;
  readOnly: boolean;
}

/** `ws` exports its sender, but its type declarations leave it out. */
const { Sender } = ws as unknown as { Sender: { frame(data: Buffer, options: FrameOptions): Buffer[] } };

const TEXT = 1;

/**
 * The bytes of a text message as one WebSocket frame of a server (RFC 6455, section 5.2). Made once, they can go to any
 * number of connections.
 */
export function frameText(payload: Buffer): Buffer {
  return Buffer.concat(Sender.frame(payload, { fin: true, rsv1: false, opcode: TEXT, mask: false, readOnly: true }));
}
