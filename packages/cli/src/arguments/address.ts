import { isCollectionName, isDocumentId } from '@uproar/core';
import { CommandError, EXIT } from '../output/exit-codes.js';

/** What a command is about: a collection, or one document of it. */
export interface Address {
  collection: string;
  id?: string;
}

/** Reads `balloons` or `balloons/bl-17`. */
export function parseAddress(text: string): Address {
  const slash = text.indexOf('/');
  const collection = slash === -1 ? text : text.slice(0, slash);
  const id = slash === -1 ? undefined : text.slice(slash + 1);
  if (!isCollectionName(collection)) {
    throw new CommandError(
      `"${collection}" is not a valid collection name.`,
      EXIT.usage,
      'A name is a lower-case letter and up to 63 more of a-z, 0-9 and "-".',
    );
  }
  if (id !== undefined && !isDocumentId(id)) {
    throw new CommandError(
      `"${id}" is not a valid document id.`,
      EXIT.usage,
      'An id is 1 to 128 of A-Z, a-z, 0-9, "-", ".", "_" and "~".',
    );
  }
  return id === undefined ? { collection } : { collection, id };
}

/** Reads the address of one document. */
export function parseDocumentAddress(text: string): Required<Address> {
  const { collection, id } = parseAddress(text);
  if (id === undefined) {
    throw new CommandError(`"${text}" names a collection, not a document.`, EXIT.usage, `Write ${text}/ID.`);
  }
  return { collection, id };
}

/** Reads a seq. */
export function parseSeq(text: string): number {
  if (/^\d{1,15}$/.test(text)) return Number(text);
  throw new CommandError(`"${text}" is no seq.`, EXIT.usage, 'A seq is a whole number; journal prints it.');
}
