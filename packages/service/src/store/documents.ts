import type { StoredContent, StoredDocument } from '../state/stored-document.js';
import type { Reads } from './reads.js';

export {
  parseStored,
  publicDocument,
  readStored,
  stringifyStored,
  type StoredContent,
  type StoredDocument,
} from '../state/stored-document.js';

const COLUMNS = 'number, id, version, created, updated, expires, data';
const GET = `SELECT ${COLUMNS} FROM documents WHERE collection = ? AND id = ?`;
const LIST = `SELECT ${COLUMNS} FROM documents WHERE collection = ? AND id > ? ORDER BY id LIMIT ?`;

/** What is read of documents that may belong to a query, from a table `d`. As rows, since arrays are read faster than objects. */
export const CANDIDATE_COLUMNS = 'd.id, d.version, d.created, d.updated, d.expires, d.data';
export type CandidateRow = [
  id: string,
  version: number,
  created: number,
  updated: number,
  expires: number | null,
  data: string,
];

/** A row of {@link CANDIDATE_COLUMNS}. */
export function fromRow([id, version, created, updated, expires, data]: CandidateRow): StoredContent {
  return { id, version, created, updated, expires, data };
}

/** Reads documents by the number of their collection and their id. */
export class Documents {
  readonly #reads: Reads;

  constructor(reads: Reads) {
    this.#reads = reads;
  }

  get(collection: number, id: string): StoredDocument | undefined {
    return this.#reads.statement<[number, string], StoredDocument>(GET).get(collection, id);
  }

  /** Up to `limit` documents with ids greater than `after`, in the order of ids. */
  list(collection: number, after: string, limit: number): StoredDocument[] {
    return this.#reads.statement<[number, string, number], StoredDocument>(LIST).all(collection, after, limit);
  }
}
