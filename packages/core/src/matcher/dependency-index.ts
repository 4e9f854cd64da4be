import type { DocumentChange } from '../write/commit.js';
import type { Document } from '../document/document.js';
import { valueOfField } from '../query/fields.js';
import { joinName } from '../query/names.js';

/** What somebody wants to hear of: one document, or the documents of a collection that hold a value in a field. */
export interface Dependency {
  readonly collection: string;
  /** The field; undefined for the id itself. */
  readonly field: readonly string[] | undefined;
  readonly value: string;
}

interface FieldDependencies<Item> {
  readonly path: readonly string[] | undefined;
  readonly byValue: Map<string, Set<Item>>;
}

/** Finds who is interested in a document, by its id or by what its fields hold, without looking at anybody else. */
export class DependencyIndex<Item> {
  readonly #byCollection = new Map<string, Map<string, FieldDependencies<Item>>>();

  /** Returns true for the first item with this interest. */
  add({ collection, field, value }: Dependency, item: Item): boolean {
    let fields = this.#byCollection.get(collection);
    if (!fields) this.#byCollection.set(collection, (fields = new Map()));
    const key = field ? joinName(field) : '';
    let interests = fields.get(key);
    if (!interests) fields.set(key, (interests = { path: field, byValue: new Map() }));
    const items = interests.byValue.get(value);
    if (items) items.add(item);
    else interests.byValue.set(value, new Set([item]));
    return !items;
  }

  /** Returns true when nobody else has this interest. */
  remove({ collection, field, value }: Dependency, item: Item): boolean {
    const fields = this.#byCollection.get(collection);
    const key = field ? joinName(field) : '';
    const byValue = fields?.get(key)?.byValue;
    const items = byValue?.get(value);
    if (!items?.delete(item) || items.size > 0) return false;
    byValue!.delete(value);
    if (byValue!.size === 0) fields!.delete(key);
    if (fields!.size === 0) this.#byCollection.delete(collection);
    return true;
  }

  /** The collections that anybody is interested in. */
  get collections(): string[] {
    return [...this.#byCollection.keys()];
  }

  /** Whether anybody is interested in anything of a collection. */
  concerns(collection: string): boolean {
    return this.#byCollection.has(collection);
  }

  /** Calls `found` for all who are interested in the document as it was or as it is; perhaps more than once for one. */
  interested({ collection, id, before, after }: DocumentChange, found: (item: Item) => void): void {
    for (const { path, byValue } of this.#byCollection.get(collection)?.values() ?? []) {
      if (!path) byValue.get(id)?.forEach(found);
      else
        for (const document of [before, after]) {
          const value = document && fieldOf(document, path);
          if (value !== undefined) byValue.get(value)?.forEach(found);
        }
    }
  }
}

function fieldOf(document: Document, path: readonly string[]): string | undefined {
  const value = valueOfField(document, path);
  return typeof value === 'string' ? value : undefined;
}
