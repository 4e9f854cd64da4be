import type { JsonObject } from '@uproar/core';

/** One document of a file that is brought in, and the line it begins on, counted from 1; or why it is none. */
export type Row = { line: number; value: JsonObject } | { line: number; error: string };

/** A row that cannot be brought in, or a file that cannot be read on from a line. */
export class RowError extends Error {
  override name = 'RowError';
  constructor(
    readonly line: number,
    message: string,
  ) {
    super(message);
  }
}
