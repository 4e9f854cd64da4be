import type { JsonObject } from '@uproar/core';

/** One document of a file that is brought in, and the line it begins on, counted from 1. */
export interface Row {
  line: number;
  value: JsonObject;
}

/** A row that cannot be read. */
export class RowError extends Error {
  override name = 'RowError';
  constructor(
    readonly line: number,
    message: string,
  ) {
    super(message);
  }
}
