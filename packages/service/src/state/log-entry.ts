import { z } from 'zod';
import { decodeBatch, encodeBatch, type LogRecord } from './records.js';

/** An entry of a log that several nodes share. */
export interface LogEntry {
  /** Its place in the log: 1, 2, 3 … */
  place: number;
  /** The revision of the log service that added it. */
  revision: number;
  bytes: Buffer;
}

/** Who has written an entry, and where it belongs among the entries of that producer. */
export interface EntryHeader {
  /** A node, from one start to the next. */
  producer: string;
  /** The number of the batch: 1, 2, 3 … Only the next one of a producer counts. */
  number: number;
  /** The number of this part of the batch, from 1, and the number of its parts. */
  part: number;
  parts: number;
}

const Header: z.ZodType<EntryHeader> = z.object({
  producer: z.string().max(100),
  number: z.int().min(1),
  part: z.int().min(1),
  parts: z.int().min(1),
});

const NEWLINE = 10;

/**
 * Writes a batch as entries: one, or several if it is larger than an entry may be.
 *
 * @param maxBytes the most bytes of one entry, apart from its header
 */
export function encodeEntries(
  producer: string,
  number: number,
  records: readonly LogRecord[],
  maxBytes: number,
): Buffer[] {
  const body = Buffer.from(encodeBatch(records));
  const parts = Math.max(1, Math.ceil(body.length / maxBytes));
  return Array.from({ length: parts }, (_, index) => {
    const header: EntryHeader = { producer, number, part: index + 1, parts };
    return Buffer.concat([
      Buffer.from(`${JSON.stringify(header)}\n`),
      body.subarray(index * maxBytes, (index + 1) * maxBytes),
    ]);
  });
}

/**
 * Reads the header of an entry.
 *
 * @throws {RangeError} when it has another form
 */
export function readEntry(bytes: Buffer): { header: EntryHeader; body: Buffer } {
  const end = bytes.indexOf(NEWLINE);
  try {
    const header = Header.parse(JSON.parse(bytes.subarray(0, end).toString()));
    return { header, body: bytes.subarray(end + 1) };
  } catch (error) {
    throw new RangeError('The log has an entry of another form. A newer version may have written it.', {
      cause: error,
    });
  }
}

/** Reads the records of a batch, from its parts in order. As {@link decodeBatch}. */
export function decodeParts(parts: readonly Buffer[]): LogRecord[] {
  return decodeBatch(Buffer.concat(parts).toString());
}
