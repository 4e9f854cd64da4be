import type { StoredDocument } from '../state/stored-document.js';
import type { Reads } from './reads.js';

export {
  parseStored,
  publicDocument,
  readStored,
  stringifyStored,
  type StoredDocument,
} from '../state/stored-document.js';

const COLUMNS = 'number, id, version, created, updated, expires, data';
const GET = `SELECT ${COLUMNS} FROM documents WHERE collection = ? AND id = ?`;
const LIST = `SELECT ${COLUMNS} FROM documents WHERE collection = ? AND id > ? ORDER BY id LIMIT ?`;

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
