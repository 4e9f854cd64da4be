/** The items of each key. Most keys have one item, which is stored without a set of its own. */
export class ItemsByKey<Key, Item> {
  readonly #items = new Map<Key, Item | Set<Item>>();

  /** How many keys have items. */
  get size(): number {
    return this.#items.size;
  }

  /** How many items a key has. */
  count(key: Key): number {
    const items = this.#items.get(key);
    return items === undefined ? 0 : items instanceof Set ? items.size : 1;
  }

  /** Returns true for the first item of the key. */
  add(key: Key, item: Item): boolean {
    const items = this.#items.get(key);
    if (items instanceof Set) items.add(item);
    else if (items === undefined) this.#items.set(key, item);
    else if (items !== item) this.#items.set(key, new Set([items, item]));
    return items === undefined;
  }

  /** Returns true if this was the last item of the key. */
  remove(key: Key, item: Item): boolean {
    const items = this.#items.get(key);
    if (!(items instanceof Set)) return items === item && this.#items.delete(key);
    items.delete(item);
    if (items.size === 1) this.#items.set(key, [...items][0]!);
    return false;
  }

  /** Calls `found` for each item of the key. */
  find(key: Key, found: (item: Item) => void): void {
    const items = this.#items.get(key);
    if (items instanceof Set) items.forEach(found);
    else if (items !== undefined) found(items);
  }
}
