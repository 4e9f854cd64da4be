import type { DocumentChange } from '../write/commit.js';
import type { Document } from '../document/document.js';
import type { Include } from '../query/prepared-query.js';
import { isTaken, ownerOf, type Relations } from './relations.js';

/** Related documents in their state before some changes, found through their present state. */
export class EarlierRelations implements Relations {
  readonly #now: Relations;
  readonly #before = new Map<string, Map<string, Document | undefined>>();

  /** @param changes net changes: at most one for each document */
  constructor(now: Relations, changes: readonly DocumentChange[]) {
    this.#now = now;
    for (const { collection, id, before } of changes) {
      let ofCollection = this.#before.get(collection);
      if (!ofCollection) this.#before.set(collection, (ofCollection = new Map()));
      ofCollection.set(id, before);
    }
  }

  get(include: Include, id: string): Document | undefined {
    const changed = this.#before.get(include.query.from);
    return changed?.has(id) ? changed.get(id) : this.#now.get(include, id);
  }

  find(include: Include, owner: string, wanted: number): { documents: Document[]; more: boolean } {
    const changed = this.#before.get(include.query.from);
    if (!changed) return this.#now.find(include, owner, wanted);
    const now = this.#now.find(include, owner, wanted + changed.size);
    const documents = now.documents.filter(({ id }) => !changed.has(id));
    for (const document of changed.values()) {
      if (document && ownerOf(include, document) === owner && isTaken(include, document)) documents.push(document);
    }
    documents.sort(include.query.compare);
    return { documents: documents.slice(0, wanted), more: now.more || documents.length > wanted };
  }
}
