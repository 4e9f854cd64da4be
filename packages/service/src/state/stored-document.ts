import { formatTime, type Document, type JsonObject } from '@uproar/core';

/** A document as it lies in the store: times in milliseconds since 1970, data as JSON text. */
export interface StoredDocument {
  /** Its row, by which indexes point to it. */
  number: number;
  id: string;
  version: number;
  created: number;
  updated: number;
  data: string;
}

/** Raised where stored text is not the JSON that was written. */
export class DamagedTextError extends Error {
  override name = 'DamagedTextError';
  readonly code = 'SQLITE_CORRUPT_TEXT';
}

/** A stored document in its public form. */
export function readStored(stored: Omit<StoredDocument, 'number'>): Document {
  return {
    id: stored.id,
    version: stored.version,
    created: formatTime(stored.created),
    updated: formatTime(stored.updated),
    data: parseStored(stored.data),
  };
}

/**
 * The data of a stored document.
 *
 * @throws {DamagedTextError} when it is not the JSON that was written
 */
export function parseStored(data: string): JsonObject {
  try {
    return JSON.parse(data) as JsonObject;
  } catch {
    throw new DamagedTextError('A stored document is not JSON any more.');
  }
}

/** The JSON text of a stored document, without parsing its data. */
export function stringifyStored(stored: StoredDocument): string {
  return (
    `{"id":${JSON.stringify(stored.id)},"version":${stored.version},"created":"${formatTime(stored.created)}",` +
    `"updated":"${formatTime(stored.updated)}","data":${stored.data}}`
  );
}
