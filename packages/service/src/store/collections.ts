import { SELECT_COLLECTIONS, type CollectionInfo } from '../state/collection-table.js';
import type { Reads } from './reads.js';

export type { CollectionInfo } from '../state/collection-table.js';

/** The collections of a store, held in memory as they are on disk. */
export class Collections {
  readonly #byName = new Map<string, CollectionInfo>();
  readonly #byNumber = new Map<number, CollectionInfo>();

  constructor(reads: Reads) {
    this.publish(reads.statement<[], CollectionInfo>(SELECT_COLLECTIONS).all());
  }

  /** The collection called `name`, or undefined when nothing was ever written to it. */
  get(name: string): CollectionInfo | undefined {
    return this.#byName.get(name);
  }

  /** The name of the collection with this number. */
  nameOf(number: number): string {
    return this.#byNumber.get(number)!.name;
  }

  /** All collections in the order of their names. */
  list(): CollectionInfo[] {
    return [...this.#byName.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  /** Takes over the collections that a batch has changed. */
  publish(changed: readonly CollectionInfo[]): void {
    for (const info of changed) {
      this.#byName.set(info.name, info);
      this.#byNumber.set(info.number, info);
    }
  }
}
