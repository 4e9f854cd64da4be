import type Database from 'better-sqlite3';
import { formatAddress, type Write } from '@uproar/core';

interface Row {
  collection: string;
  document: string;
  node: string;
}

const ALL = 'SELECT collection, document, node FROM holds';
const ADD = 'INSERT OR IGNORE INTO holds (collection, document, node) VALUES (?, ?, ?)';
const REMOVE = 'DELETE FROM holds WHERE collection = ? AND document = ? AND node = ?';
const CLEAR = 'DELETE FROM holds WHERE collection = ? AND document = ?';

/** Which nodes hold the documents that live as long as a connection. Those of one document are few. */
export class HoldTable {
  readonly #database: Database.Database;
  #nodes!: Map<string, Set<string>>;

  constructor(database: Database.Database) {
    this.#database = database;
    this.reload();
  }

  /** Whether a document lives as long as a connection. */
  isHeld({ collection, id }: Write): boolean {
    return this.#nodes.size > 0 && this.#nodes.has(formatAddress(collection, id));
  }

  /** Whether a node is the only one that holds a document. */
  isLast({ collection, id }: Write, node: string): boolean {
    const nodes = this.#nodes.get(formatAddress(collection, id));
    return nodes !== undefined && nodes.size === 1 && nodes.has(node);
  }

  /**
   * Notes what a write says about holding its document. It was applied, or changed nothing.
   *
   * @param gone whether the document does not exist after it
   */
  note(write: Write, gone: boolean): void {
    const { collection, id } = write;
    const holdFor = write.kind === 'put' ? write.holdFor : undefined;
    if (this.#nodes.size === 0 && holdFor === undefined) return;
    const address = formatAddress(collection, id);
    const nodes = this.#nodes.get(address);
    if (holdFor !== undefined) {
      if (nodes?.has(holdFor)) return;
      this.#nodes.set(address, (nodes ?? new Set()).add(holdFor));
      this.#database.prepare(ADD).run(collection, id, holdFor);
    } else if (nodes && (gone || write.kind === 'put')) {
      this.#nodes.delete(address);
      this.#database.prepare(CLEAR).run(collection, id);
    } else if (nodes && write.kind === 'delete' && write.releasedBy !== undefined) {
      nodes.delete(write.releasedBy);
      this.#database.prepare(REMOVE).run(collection, id, write.releasedBy);
    }
  }

  /** Reads the table again, after a failed transaction. */
  reload(): void {
    this.#nodes = new Map();
    for (const { collection, document, node } of this.#database.prepare<[], Row>(ALL).all()) {
      const address = formatAddress(collection, document);
      this.#nodes.set(address, (this.#nodes.get(address) ?? new Set()).add(node));
    }
  }
}
