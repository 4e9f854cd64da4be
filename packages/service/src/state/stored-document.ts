import { formatTime, type Document, type JsonObject } from '@uproar/core';

/** A document as it lies in the store: times in milliseconds since 1970, data as JSON text. */
export interface StoredDocument {
  /** Its row, by which indexes point to it. */
  number: number;
  id: string;
  version: number;
  created: number;
  updated: number;
  /** When it ends; null if it does not. */
  expires: number | null;
  data: string;
}

/** A stored document without the number of its row. */
export type StoredContent = Omit<StoredDocument, 'number'>;

/** Raised where stored text is not the JSON that was written. */
export class DamagedTextError extends Error {
  override name = 'DamagedTextError';
  readonly code = 'SQLITE_CORRUPT_TEXT';
}

/** A stored document in its public form. */
export function readStored(stored: StoredContent): Document {
  return publicDocument(stored, parseStored(stored.data));
}

/** A stored document in its public form, with data that was parsed before. */
export function publicDocument(
  { id, version, created, updated, expires }: Omit<StoredDocument, 'number' | 'data'>,
  data: JsonObject,
): Document {
  if (expires === null) return { id, version, created: formatTime(created), updated: formatTime(updated), data };
  return {
    id,
    version,
    created: formatTime(created),
    updated: formatTime(updated),
    expires: formatTime(expires),
    data,
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
export function stringifyStored(stored: StoredContent): string {
  return (
    `{"id":${JSON.stringify(stored.id)},"version":${stored.version},"created":"${formatTime(stored.created)}",` +
    `"updated":"${formatTime(stored.updated)}",` +
    (stored.expires === null ? '' : `"expires":"${formatTime(stored.expires)}",`) +
    `"data":${stored.data}}`
  );
}
