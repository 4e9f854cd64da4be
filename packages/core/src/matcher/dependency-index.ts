import type { DocumentChange } from '../write/commit.js';
import type { Document } from '../document/document.js';
import { valueOfField } from '../query/fields.js';
import { joinName } from '../query/names.js';
import { ItemsByKey } from './items-by-key.js';

/** A dependency on one document, or on the documents of a collection that have a value in a field. */
export interface Dependency {
  readonly collection: string;
  /** The field; undefined for the id itself. */
  readonly field: readonly string[] | undefined;
  readonly value: string;
}

interface FieldDependencies<Item> {
  readonly path: readonly string[] | undefined;
  readonly byValue: ItemsByKey<string, Item>;
}

/**
 * Finds the items that depend on a document, by its id or by the values of its fields, without looking at other items.
 */
export class DependencyIndex<Item> {
  readonly #byCollection = new Map<string, Map<string, FieldDependencies<Item>>>();

  /** Returns true for the first item with this interest. */
  add({ collection, field, value }: Dependency, item: Item): boolean {
    let fields = this.#byCollection.get(collection);
    if (!fields) this.#byCollection.set(collection, (fields = new Map()));
    const key = field ? joinName(field) : '';
    let entry = fields.get(key);
    if (!entry) fields.set(key, (entry = { path: field, byValue: new ItemsByKey() }));
    return entry.byValue.add(value, item);
  }

  /** Returns true if no other item has this dependency. */
  remove({ collection, field, value }: Dependency, item: Item): boolean {
    const fields = this.#byCollection.get(collection);
    const key = field ? joinName(field) : '';
    const byValue = fields?.get(key)?.byValue;
    if (!byValue?.remove(value, item)) return false;
    if (byValue.size === 0) fields!.delete(key);
    if (fields!.size === 0) this.#byCollection.delete(collection);
    return true;
  }

  /** The collections that have dependencies. */
  get collections(): string[] {
    return [...this.#byCollection.keys()];
  }

  /** Whether any item depends on a collection. */
  concerns(collection: string): boolean {
    return this.#byCollection.has(collection);
  }

  /** Calls `found` for all who are interested in the document as it was or as it is; perhaps more than once for one. */
  interested({ collection, id, before, after }: DocumentChange, found: (item: Item) => void): void {
    for (const { path, byValue } of this.#byCollection.get(collection)?.values() ?? []) {
      if (!path) byValue.find(id, found);
      else
        for (const document of [before, after]) {
          const value = document && fieldOf(document, path);
          if (value !== undefined) byValue.find(value, found);
        }
    }
  }
}

function fieldOf(document: Document, path: readonly string[]): string | undefined {
  const value = valueOfField(document, path);
  return typeof value === 'string' ? value : undefined;
}
